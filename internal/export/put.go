package export

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
)

// Put writes a file. One that is there is only written over when told to.
func Put(path string, text []byte, over bool) error {
	flags := os.O_WRONLY | os.O_CREATE | os.O_EXCL
	if over {
		flags = os.O_WRONLY | os.O_CREATE | os.O_TRUNC
	}
	f, err := os.OpenFile(path, flags, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s already exists; choose another name, or overwrite it with --force", path)
	} else if err != nil {
		return fmt.Errorf("cannot be written: %w", err)
	}
	_, err = f.Write(text)
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", path, err)
	}
	return nil
}
