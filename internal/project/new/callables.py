"""Lists the functions of Python files, without running them: names of files as JSON in, what they have out."""
import ast
import json
import sys

SERVES = {"serve_forever", "run_app", "run_simple"}


def chain(node):
    """The names by which a value is taken out of another: event["query"].get("to") is event, query, to."""
    names = []
    while True:
        if isinstance(node, ast.Subscript) and isinstance(node.slice, ast.Constant) and isinstance(node.slice.value, str):
            names.append(node.slice.value)
            node = node.value
        elif isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr == "get" and node.args \
                and isinstance(node.args[0], ast.Constant) and isinstance(node.args[0].value, str):
            names.append(node.args[0].value)
            node = node.func.value
        elif isinstance(node, ast.Name):
            return [node.id, *reversed(names)]
        else:
            return []


def reads(function, parameter):
    """What a function takes out of its first parameter, as paths; names that stand for a part of it are followed."""
    known = {parameter: []}
    out = []
    for node in ast.walk(function):
        if isinstance(node, ast.Assign):
            pairs = [(t, v) for target in node.targets
                     for t, v in (zip(target.elts, node.value.elts) if isinstance(target, ast.Tuple)
                                  and isinstance(node.value, ast.Tuple) else [(target, node.value)])]
            for target, value in pairs:
                names = chain(value)
                if isinstance(target, ast.Name) and names and names[0] in known:
                    known.setdefault(target.id, known[names[0]] + names[1:])
    for node in ast.walk(function):
        names = chain(node)
        if len(names) > 1 and names[0] in known:
            path = "/".join(known[names[0]] + names[1:])
            if path not in out:
                out.append(path)
    return out


def read(path):
    with open(path, "rb") as f:
        tree = ast.parse(f.read())
    out = {"callables": [], "serves": False}
    for node in ast.walk(tree):
        name = getattr(node, "attr", getattr(node, "id", ""))
        if name in SERVES:
            out["serves"] = True
    for node in tree.body:
        if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)) and not node.name.startswith("_"):
            args = node.args.posonlyargs + node.args.args
            needed = args[:len(args) - len(node.args.defaults)]
            if any(d is None for d in node.args.kw_defaults):
                continue
            params = [a.arg for a in needed]
            if len(params) == 1 and len(args) > 1 and args[1].arg in ("context", "ctx"):
                params.append(args[1].arg)
            out["callables"].append({"name": node.name, "params": params,
                                     "reads": reads(node, args[0].arg) if args else []})
    return out


found = {}
for path in json.load(sys.stdin):
    try:
        found[path] = read(path)
    except (OSError, SyntaxError, ValueError, RecursionError):
        pass
json.dump(found, sys.stdout)
