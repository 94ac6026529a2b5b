package build

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"testing"

	"nightdrill.dev/internal/core/plan"
)

// Files that will not run where a function is meant to are found by their heads, also within jars; what is no
// program, or only begins like one, is not counted.
func TestMisfits(t *testing.T) {
	class := func(version int) []byte {
		return binary.BigEndian.AppendUint16([]byte{0xca, 0xfe, 0xba, 0xbe, 0, 0}, uint16(version+44))
	}
	var jar bytes.Buffer
	z := zip.NewWriter(&jar)
	for name, version := range map[string]int{"quay/Desk.class": 17, "META-INF/versions/21/quay/Desk.class": 21} {
		w, err := z.Create(name)
		if err == nil {
			_, err = w.Write(class(version))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	own, err := os.ReadFile(self)
	if err != nil {
		t.Fatal(err)
	}
	mac := make([]byte, 32) // a Mach-O header for arm64, without load commands
	for i, n := range []uint32{0xfeedfacf, 0x0100000c, 0, 8} {
		binary.LittleEndian.PutUint32(mac[4*i:], n)
	}
	dir := t.TempDir()
	for name, content := range map[string][]byte{"handler": own, "lib/a.node": mac, "lib/desk.jar": jar.Bytes(),
		"Old.class": class(8), "New.class": class(21), "quote.py": []byte("import os\n"), "cut": own[:20],
		"MZ": []byte("MZ is a name of a quay"), "empty": nil, ".git/object": own} {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, content, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	here := Misfit{"handler", runtime.GOOS + "/" + runtime.GOARCH}
	f := &plan.Function{Dir: dir, Target: plan.Target{OS: "linux", Arch: "riscv64", Java: 11}}
	got, looked, err := Misfits(f, dir)
	want := []Misfit{{"New.class", "Java 21"}, here, {"lib/a.node", "darwin/arm64"}, {"lib/desk.jar", "Java 17"}}
	if err != nil || looked != 5 || !slices.Equal(got, want) {
		t.Errorf("%v of %d, %v; want %v", got, looked, err, want)
	}
	f.Target = plan.Target{OS: runtime.GOOS, Arch: runtime.GOARCH}
	f.Package = []string{"*"}
	if got, looked, err = Misfits(f, dir); err != nil || looked != 3 || len(got) != 0 {
		t.Errorf("of the package: %v of %d, %v", got, looked, err)
	}
}
