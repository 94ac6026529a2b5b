package session

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/template"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/project"
)

// LargestExample is the largest example of a shape that is read, in bytes.
const LargestExample = 1 << 20

var kindsOfShape = map[plan.Kind]template.Kind{plan.HTTP: template.Request, plan.Storage: template.Object}

// LearnShape makes a template of an example of what a function's platform sends it, for the events of a kind of
// source. The error says why there is none; where the template does not make the example again, what was learned is
// returned with it.
func LearnShape(example []byte, kind plan.Kind) (*template.Learned, error) {
	x, err := template.Learn(example, kindsOfShape[kind])
	if err != nil {
		return nil, err
	}
	if len(x.Differs) > 0 {
		d := x.Differs[0]
		return x, fmt.Errorf(
			"what the template makes differs from the example in %s, first at %s: %s → %s; nothing is "+
				"written",
			text.Plural(len(x.Differs), "place"),
			d.At,
			payload.Line([]byte(d.Was), 60),
			payload.Line([]byte(d.Is), 60),
		)
	}
	return x, nil
}

// ShapeLike learns a shape for a source from a file, whose path is relative to the project's folder.
func (s *Session) ShapeLike(file, source string) (*template.Learned, error) {
	at := s.Plan().SourceNamed(source)
	if at < 0 {
		return nil, fmt.Errorf("the source %s no longer exists", source)
	}
	example, err := project.ReadFile(s.inProject(file), LargestExample)
	if errors.Is(err, os.ErrNotExist) {
		return nil, errors.New("there is no such file in the project's folder")
	}
	if err != nil {
		return nil, err
	}
	return LearnShape(example, s.Plan().Sources[at].Kind)
}

// WriteShape writes a template to a file that is not there yet.
func (s *Session) WriteShape(file string, x *template.Learned) error {
	path := s.inProject(file)
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if os.IsExist(err) {
		return fmt.Errorf("%s is there already, and was not overwritten", file)
	}
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", file, project.Cause(err))
	}
	if _, err = f.WriteString(x.Template); err == nil {
		err = f.Close()
	}
	return err
}

func (s *Session) inProject(file string) string {
	if filepath.IsAbs(file) {
		return file
	}
	return filepath.Join(s.Dir, filepath.FromSlash(file))
}

// FreeFile returns the name of a file in the project's folder that is not there yet.
func (s *Session) FreeFile(name, ending string) string {
	for n := 1; ; n++ {
		file := name + ending
		if n > 1 {
			file = fmt.Sprintf("%s-%d%s", name, n, ending)
		}
		if _, err := os.Lstat(s.inProject(file)); err != nil {
			return file
		}
	}
}
