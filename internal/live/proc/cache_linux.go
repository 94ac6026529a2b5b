package proc

import (
	"bufio"
	"os"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"
)

// DropFiles drops files from the system's cache (posix_fadvise(2),
// POSIX_FADV_DONTNEED) and returns the share of their pages that were there and
// left, as mincore(2) tells; -1 where there were none. Pages that are mapped by
// other processes stay.
func DropFiles(paths []string) (left float64) {
	before, after := 0, 0
	for _, path := range paths {
		f, err := os.Open(path)
		if err != nil {
			continue
		}
		b := residentPages(f)
		_ = f.Sync() // what is not written yet cannot be dropped
		_ = unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED)
		before, after = before+b, after+min(residentPages(f), b)
		f.Close()
	}
	if before == 0 {
		return -1
	}
	return 1 - float64(after)/float64(before)
}

// residentPages counts the pages of a file that are in the cache.
func residentPages(f *os.File) (n int) {
	info, err := f.Stat()
	if err != nil || info.Size() == 0 || info.Size() > 1<<40 {
		return 0
	}
	size := int(info.Size())
	memory, err := unix.Mmap(int(f.Fd()), 0, size, unix.PROT_NONE, unix.MAP_SHARED)
	if err != nil {
		return 0
	}
	defer func() { _ = unix.Munmap(memory) }()
	page := os.Getpagesize()
	states := make([]byte, (size+page-1)/page)
	if _, _, errno := unix.Syscall(unix.SYS_MINCORE, uintptr(unsafe.Pointer(&memory[0])), uintptr(size),
		uintptr(unsafe.Pointer(&states[0]))); errno != 0 {
		return 0
	}
	for _, s := range states {
		n += int(s & 1)
	}
	return n
}

// Mapped returns the files that a process has mapped (proc(5)).
func Mapped(pid int) (files []string) {
	f, err := os.Open("/proc/" + strconv.Itoa(pid) + "/maps")
	if err != nil {
		return nil
	}
	defer f.Close()
	seen := map[string]bool{}
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if _, path, ok := strings.Cut(lines.Text(), " /"); ok && !seen["/"+path] {
			seen["/"+path] = true
			if info, err := os.Stat("/" + path); err == nil && info.Mode().IsRegular() {
				files = append(files, "/"+path)
			}
		}
	}
	return files
}
