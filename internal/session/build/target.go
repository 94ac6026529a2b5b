package build

import (
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/programs"
)

// Misfit is a file that will not run where the function is meant to run, and what it is for.
type Misfit struct{ File, For string }

// mostTargetFiles bounds the files of a function that are looked at.
const mostTargetFiles = 50_000

// Misfits looks at the heads of a function's files: executables, shared objects, add-ons of Node (ELF, Mach-O, PE)
// and class files. It returns those that do not fit the function's target, and how many were of one of these forms.
// dir is the project's folder; the files are those of `package`, or all in the function's folder.
func Misfits(f *plan.Function, dir string) (out []Misfit, looked int, err error) {
	root, files := f.Dir, []string{}
	if f.Package != nil {
		root = dir
		if files, err = Watched(dir, f.Package); err != nil {
			return nil, 0, err
		}
	} else if err = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return nil // what cannot be read is not looked at
		case d.IsDir() && path != root && strings.HasPrefix(d.Name(), ".") && d.Name() != ".venv":
			return filepath.SkipDir
		case len(files) == mostTargetFiles:
			return fmt.Errorf("more than %d files are below %s; name those that are deployed with package",
				mostTargetFiles, root)
		case d.Type().IsRegular():
			rel, _ := filepath.Rel(root, path)
			files = append(files, filepath.ToSlash(rel))
		}
		return nil
	}); err != nil {
		return nil, 0, err
	}
	for _, file := range files {
		head, ok := programs.HeadOf(filepath.Join(root, filepath.FromSlash(file)))
		if !ok {
			continue
		}
		looked++
		if why := misfit(&head, &f.Target); why != "" {
			out = append(out, Misfit{file, why})
		}
	}
	return out, looked, nil
}

// misfit returns what a file is for, where that is not the target; "" where it fits.
func misfit(m *programs.Head, t *plan.Target) string {
	switch {
	case m.Java > 0 && t.Java > 0 && m.Java > t.Java:
		return fmt.Sprintf("Java %d", m.Java)
	case m.Java > 0:
		return ""
	case m.OS != t.OS || !slices.Contains(m.Archs, t.Arch):
		return m.OS + "/" + strings.Join(m.Archs, " and ")
	}
	return ""
}
