"""Lists the functions of Python files, without running them: names of files as JSON in, what they have out."""
import ast
import json
import sys

SERVES = {"serve_forever", "run_app", "run_simple"}


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
            out["callables"].append({"name": node.name, "params": params})
    return out


found = {}
for path in json.load(sys.stdin):
    try:
        found[path] = read(path)
    except (OSError, SyntaxError, ValueError, RecursionError):
        pass
json.dump(found, sys.stdout)
