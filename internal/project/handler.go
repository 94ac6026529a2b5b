package project

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/programs"
)

// ofHandler are the settings of a function that a handler alone has.
var ofHandler = []string{"handler", "interpreter", "loader", "takes", "reply", "pass_trace"}

// languages are the languages of handlers, by the endings of their files; a folder is of classes.
var languages = map[string]plan.Language{".py": plan.Python, ".js": plan.Node, ".mjs": plan.Node, ".cjs": plan.Node,
	".ts": plan.Node, ".mts": plan.Node, ".cts": plan.Node, ".go": plan.Go, ".jar": plan.Java, "": plan.Java}

// callableName is the form of a handler's name: a name, or a path of names.
var callableName = regexp.MustCompile(`^[\p{L}_$][\p{L}\p{N}_$]*(\.[\p{L}_$][\p{L}\p{N}_$]*)*$`)

const handlerExample = "functions/quote.py:quote"

// handler reads a handler in place of a command. It reports whether the function has one.
func (l *loader) handler(f *plan.Function, o *object) bool {
	if o.fields["build"] == nil && len(f.Build) > 1 && f.Build[1] == BuildHandler { // of which this is a variant
		f.Build = nil
	}
	switch {
	case o.fields["handler"] != nil:
		if n := o.keys["start"]; n != nil {
			l.wrong(n, "%s: a function has either a handler, which is loaded, or a start command", o.at("start"))
		}
		if n := o.keys["transport"]; n != nil {
			l.wrong(n, "%s: a handler is loaded, and needs no transport", o.at("transport"))
		}
		was := f.Handler
		if f.Handler = (&plan.Handler{}); was != nil { // a variant is called as its function is
			f.Handler.Takes, f.Handler.Reply, f.Handler.PassTrace = was.Takes, was.Reply, was.PassTrace
			if was.Language == plan.OtherLanguage && o.fields["interpreter"] == nil {
				f.Handler.Language = was.Language
			}
		}
		if !l.callable(f.Handler, o) {
			return true
		}
	case o.fields["start"] != nil, o.fields["transport"] != nil, f.Handler == nil:
		for _, key := range ofHandler[1:] {
			if n := o.keys[key]; n != nil {
				l.wrong(n, "%s needs a handler, such as handler: %s", o.at(key), handlerExample)
			}
		}
		if f.Handler != nil { // of which this is a variant
			f.Handler, f.Start = nil, nil
			if o.fields["transport"] == nil {
				f.Transport = plan.HTTPTransport
			}
		}
		return false
	default: // a variant that changes something of it
		f.Handler = new(*f.Handler)
	}
	h := f.Handler
	if o.fields["takes"] != nil {
		h.Takes = plan.Takes(o.choice("takes", plan.TakesWords, 0))
	}
	if n := o.fields["pass_trace"]; n != nil {
		h.PassTrace = o.choice("pass_trace", []string{"false", "true"}, 0) == 1
		if h.PassTrace && h.Language != plan.Python && h.Language != plan.Node && h.Language != plan.Go {
			l.wrong(n, "%s: the loader can do that in Python, Node and Go; elsewhere set the header traceparent "+
				"from the context", o.at("pass_trace"))
		}
	}
	if o.fields["reply"] != nil {
		h.Reply = l.replyShape(o)
	}
	for key, why := range map[string]string{"ready": "a handler is ready when it is loaded",
		"listen": "a handler listens on nothing", "connection": "a handler listens on nothing",
		"path":    "a handler has no path",
		"deliver": "a handler gets what takes says: event, data, request or shaped"} {
		if n := o.keys[key]; n != nil {
			l.wrong(n, "%s: %s", o.at(key), why)
		}
	}
	f.Transport, f.Socket, f.Fresh, f.Ready = plan.Loaded, false, false, plan.Ready{By: plan.ReadyRuns}
	if f.Deliver = plan.DeliverBinary; h.Takes == plan.TakesShaped {
		f.Deliver = plan.DeliverShaped
	}
	file := l.handlerFile(f, o)
	if h.Built() {
		l.built(f, o, file)
		return true
	}
	f.Start = append(l.interpreter(f, o, file), plan.LoaderArgument, h.File, h.Name)
	return true
}

// BuildHandler is the command under which the program builds a handler in Go: FILE NAME TAKES OUT.
const BuildHandler = "build-handler"

// built sets how a handler in Go is built with its loader, and how it is started.
func (l *loader) built(f *plan.Function, o *object, file string) {
	for key, why := range map[string]string{
		"build":       "a handler in Go is built by the go command; flags go into GOFLAGS in env",
		"interpreter": "a handler in Go is built, and has no interpreter"} {
		if n := o.keys[key]; n != nil {
			l.wrong(n, "%s: %s", o.at(key), why)
		}
	}
	if _, err := exec.LookPath("go"); err != nil {
		l.missing = append(l.missing, l.mistake(o.fields["handler"], "%s: %q not found%s", o.at("handler"), "go",
			programs.Nearest("go")))
	}
	self, err := os.Executable()
	if err != nil {
		l.wrong(o.fields["handler"], "%s: the path of this program is not known: %v", o.at("handler"), err)
	}
	out := filepath.Join(l.dir, StateDir, "handlers", f.Name)
	takes := f.Handler.Takes.String()
	if f.Handler.PassTrace {
		takes += plan.TakesTraced
	}
	f.Build = []string{self, BuildHandler, file, f.Handler.Name, takes, out}
	f.Start = []string{out, plan.LoaderArgument, f.Handler.File, f.Handler.Name}
}

// callable reads the file and the name of a handler.
func (l *loader) callable(h *plan.Handler, o *object) bool {
	n, text := o.fields["handler"], o.text("handler", "")
	at := strings.LastIndexByte(text, ':')
	if at < 1 || !callableName.MatchString(text[at+1:]) {
		l.wrong(n, "%s: %q must have the form FILE:NAME, such as %s", o.at("handler"), text, handlerExample)
		return false
	}
	h.File, h.Name = text[:at], text[at+1:]
	if o.fields["loader"] != nil || h.Language == plan.OtherLanguage {
		h.Language = plan.OtherLanguage
		return true
	}
	ext := filepath.Ext(h.File)
	switch h.Language = languages[ext]; {
	case ext == ".java" || ext == ".kt" || ext == ".class":
		l.wrong(n, "%s: %s is not what Java runs; build makes that, and handler names the folder of classes or the "+
			"jar: build: [javac, -d, classes, %s], handler: classes:%s", o.at("handler"), h.File,
			strings.TrimSuffix(h.File, ext)+".java", h.Name)
		return false
	case h.Language == plan.NoLanguage:
		l.wrong(n, "%s: %s is not Python (.py), JavaScript (.js, .mjs, .cjs, .ts), Go (.go) or Java (.jar, or a "+
			"folder of classes); other functions are started by a command, start, or loaded by a loader of yours, "+
			"loader", o.at("handler"), h.File)
		return false
	}
	return true
}

// HandlerPath returns the path of a handler's file.
func HandlerPath(f *plan.Function) string {
	if path := filepath.FromSlash(f.Handler.File); filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(f.Dir, filepath.FromSlash(f.Handler.File))
}

// handlerFile returns the file of a handler, and notes where it is missing.
func (l *loader) handlerFile(f *plan.Function, o *object) string {
	path := HandlerPath(f)
	folder := f.Handler.Language == plan.Java && filepath.Ext(path) == ""
	if info, err := os.Stat(path); (err != nil || info.IsDir() != folder) && (f.Build == nil || f.Handler.Built()) {
		what := "file"
		if folder {
			what = "folder of classes"
		}
		l.missing = append(l.missing, l.mistake(o.fields["handler"], "%s: no %s %s%s", o.at("handler"), what,
			f.Handler.File, suggestFile(path)))
	}
	return path
}

// replyShape reads where the parts of a reply are in what a handler returns.
func (l *loader) replyShape(o *object) *plan.ReplyShape {
	r := o.child("reply", "status", "headers", "body", "base64")
	pointer := func(key string) string {
		text := r.text(key, "")
		if n := r.fields[key]; n != nil && !strings.HasPrefix(text, "/") {
			l.wrong(n, "%s: %q is not a JSON Pointer, such as /%s", r.at(key), text, key)
		}
		return text
	}
	return &plan.ReplyShape{Status: pointer("status"), Headers: pointer("headers"), Body: pointer("body"),
		Base64: pointer("base64")}
}

// interpreter returns the command that runs a handler's loader: the user's, or that of a virtual environment
// beside the file, or what the PATH has; or a loader of the user's.
func (l *loader) interpreter(f *plan.Function, o *object, file string) (args []string) {
	key := "interpreter"
	if o.fields["loader"] != nil {
		if n := o.keys["interpreter"]; n != nil {
			l.wrong(n, "%s: loader names what runs the handler, with its interpreter", o.at("interpreter"))
		}
		key = "loader"
	}
	n := o.fields[key]
	switch {
	case n != nil:
		if args = l.command(o, key, nil); args == nil {
			return []string{"false"}
		}
		if strings.ContainsRune(args[0], '/') && !filepath.IsAbs(args[0]) {
			args[0] = filepath.Join(f.Dir, filepath.FromSlash(args[0]))
		}
		if seq, ok := l.follow(n).(*ast.SequenceNode); ok {
			n = seq.Values[0]
		}
	case (o.fields["handler"] == nil || f.Handler.Language == plan.OtherLanguage) && len(f.Start) > 3: // a variant's
		return slices.Clone(f.Start[:len(f.Start)-3])
	case f.Handler.Language == plan.Node:
		args, n = []string{"node"}, o.fields["handler"]
	case f.Handler.Language == plan.Java:
		args, n = []string{"java"}, o.fields["handler"]
	default:
		args, n = []string{"python3"}, o.fields["handler"]
		if own := l.environment(filepath.Dir(file)); own != "" {
			args = []string{own}
		}
	}
	if _, err := exec.LookPath(args[0]); err != nil {
		l.missing = append(l.missing, l.mistake(n, "%s: %q not found%s", o.at(key), args[0],
			programs.Nearest(args[0])))
	}
	return args
}

// environment returns the interpreter of a virtual environment (PEP 405) in a folder or in one above it, up to
// the project's; "" for none.
func (l *loader) environment(dir string) string {
	for {
		path := filepath.Join(dir, ".venv", "bin", "python")
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() {
			return path
		}
		above := filepath.Dir(dir)
		if dir == l.dir || above == dir {
			return ""
		}
		dir = above
	}
}
