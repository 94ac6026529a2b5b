package programs

import (
	"archive/zip"
	"debug/elf"
	"debug/macho"
	"debug/pe"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"strings"
)

// Head is what a file was made for.
type Head struct {
	OS    string   // as Go names it
	Archs []string // likewise; several of a universal binary
	Java  int      // of a class file or a jar: the version of Java that it needs
}

// firstJava is the major version of class files of Java 1 (The Java Virtual Machine Specification, table 4.1-A).
const firstJava = 44

// HeadOf reads the head of a file: ELF, Mach-O, PE, a class file, or a jar. ok is false where it is of none of these.
func HeadOf(path string) (m Head, ok bool) {
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
		m.OS = "linux"
		if f.OSABI != elf.ELFOSABI_NONE && f.OSABI != elf.ELFOSABI_LINUX {
			m.OS = strings.ToLower(strings.TrimPrefix(f.OSABI.String(), "ELFOSABI_"))
		}
		m.Archs = []string{nameOf(elfArchs, f.Machine)}
	case number == 0xcafebabe && binary.BigEndian.Uint16(magic[6:]) > firstJava:
		m.Java = int(binary.BigEndian.Uint16(magic[6:])) - firstJava
	case number == 0xcafebabe:
		f, err := macho.NewFatFile(file)
		if err != nil {
			return m, false
		}
		m.OS = "darwin"
		for i := range f.Arches {
			m.Archs = append(m.Archs, nameOf(machoArchs, f.Arches[i].Cpu))
		}
	case number == 0xcffaedfe || number == 0xcefaedfe: // Mach-O, as little-endian machines have it
		f, err := macho.NewFile(file)
		if err != nil {
			return m, false
		}
		m.OS, m.Archs = "darwin", []string{nameOf(machoArchs, f.Cpu)}
	case number == 0x504b0304 && strings.HasSuffix(path, ".jar"):
		m.Java = javaOf(path)
		return m, m.Java > 0
	case magic[0] == 'M' && magic[1] == 'Z':
		f, err := pe.NewFile(file)
		if err != nil {
			return m, false
		}
		m.OS, m.Archs = "windows", []string{nameOf(peArchs, f.Machine)}
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
