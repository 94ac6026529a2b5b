package build

import (
	"archive/zip"
	"debug/elf"
	"debug/macho"
	"debug/pe"
	"encoding/binary"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nightdrill/internal/core/plan"
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
		made, ok := headOf(filepath.Join(root, filepath.FromSlash(file)))
		if !ok {
			continue
		}
		looked++
		if why := made.misfit(&f.Target); why != "" {
			out = append(out, Misfit{file, why})
		}
	}
	return out, looked, nil
}

// made is what a file was made for.
type made struct {
	os    string
	archs []string // several of a universal binary
	java  int      // of a class file: the version of Java that it needs
}

// misfit returns what a file is for, where that is not the target; "" where it fits.
func (m *made) misfit(t *plan.Target) string {
	switch {
	case m.java > 0 && t.Java > 0 && m.java > t.Java:
		return fmt.Sprintf("Java %d", m.java)
	case m.java > 0:
		return ""
	case m.os != t.OS || !slices.Contains(m.archs, t.Arch):
		return m.os + "/" + strings.Join(m.archs, " and ")
	}
	return ""
}

// firstJava is the major version of class files of Java 1 (The Java Virtual Machine Specification, table 4.1-A).
const firstJava = 44

// headOf reads the head of a file; ok is false where it is of none of the forms.
func headOf(path string) (m made, ok bool) {
	file, err := os.Open(path)
	if err != nil {
		return m, false
	}
	defer file.Close()
	var magic [8]byte
	if _, err := io.ReadFull(file, magic[:]); err != nil {
		return m, false
	}
	number := binary.BigEndian.Uint32(magic[:])
	switch {
	case number == 0x7f454c46: // ELF
		f, err := elf.NewFile(file)
		if err != nil {
			return m, false
		}
		m.os = "linux"
		if f.OSABI != elf.ELFOSABI_NONE && f.OSABI != elf.ELFOSABI_LINUX {
			m.os = strings.ToLower(strings.TrimPrefix(f.OSABI.String(), "ELFOSABI_"))
		}
		m.archs = []string{nameOf(elfArchs, f.Machine)}
	case number == 0xcafebabe && binary.BigEndian.Uint16(magic[6:]) > firstJava:
		m.java = int(binary.BigEndian.Uint16(magic[6:])) - firstJava
	case number == 0xcafebabe:
		f, err := macho.NewFatFile(file)
		if err != nil {
			return m, false
		}
		m.os = "darwin"
		for i := range f.Arches {
			m.archs = append(m.archs, nameOf(machoArchs, f.Arches[i].Cpu))
		}
	case number == 0xcffaedfe || number == 0xcefaedfe: // Mach-O, as little-endian machines have it
		f, err := macho.NewFile(file)
		if err != nil {
			return m, false
		}
		m.os, m.archs = "darwin", []string{nameOf(machoArchs, f.Cpu)}
	case number == 0x504b0304 && strings.HasSuffix(path, ".jar"):
		m.java = javaOf(path)
		return m, m.java > 0
	case magic[0] == 'M' && magic[1] == 'Z':
		f, err := pe.NewFile(file)
		if err != nil {
			return m, false
		}
		m.os, m.archs = "windows", []string{nameOf(peArchs, f.Machine)}
	default:
		return m, false
	}
	return m, true
}

// javaOf returns the version of Java that the classes of a jar need, without those for newer versions alone; 0 where
// it has none.
func javaOf(path string) (version int) {
	jar, err := zip.OpenReader(path)
	if err != nil {
		return 0
	}
	defer jar.Close()
	for _, entry := range jar.File {
		if !strings.HasSuffix(entry.Name, ".class") || strings.HasPrefix(entry.Name, "META-INF/") ||
			strings.HasSuffix(entry.Name, "module-info.class") {
			continue
		}
		in, err := entry.Open()
		if err != nil {
			continue
		}
		var head [8]byte
		if _, err := io.ReadFull(in, head[:]); err == nil && binary.BigEndian.Uint32(head[:]) == 0xcafebabe {
			version = max(version, int(binary.BigEndian.Uint16(head[6:]))-firstJava)
		}
		_ = in.Close() // it is only read
	}
	return version
}

var (
	elfArchs = map[elf.Machine]string{elf.EM_X86_64: "amd64", elf.EM_AARCH64: "arm64", elf.EM_386: "386",
		elf.EM_ARM: "arm", elf.EM_RISCV: "riscv64", elf.EM_PPC64: "ppc64le", elf.EM_S390: "s390x"}
	machoArchs = map[macho.Cpu]string{macho.CpuAmd64: "amd64", macho.CpuArm64: "arm64", macho.Cpu386: "386"}
	peArchs    = map[uint16]string{pe.IMAGE_FILE_MACHINE_AMD64: "amd64", pe.IMAGE_FILE_MACHINE_ARM64: "arm64",
		pe.IMAGE_FILE_MACHINE_I386: "386"}
)

func nameOf[T comparable](names map[T]string, of T) string {
	if name := names[of]; name != "" {
		return name
	}
	return fmt.Sprint(of)
}
