package services

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/live/proc"
)

// largestKeyed is up to which size a file that a command names is part of a snapshot's key.
const largestKeyed = 64 << 20

// data returns the folder of a service's data, which Night Drill makes: what {data} stands for.
func (s *Set) data(x *service) string { return filepath.Join(s.state, "data", x.Name) }

// snapshot returns the folder in which the data is kept that the seed made. Its name is made from the commands and
// from the files that they name, so that another seed makes another snapshot.
func (s *Set) snapshot(x *service) string {
	h := sha256.New()
	for _, args := range [][]string{x.Start, x.Seed} {
		for _, a := range args {
			fmt.Fprintf(h, "%q\n", a)
			path := a
			if !filepath.IsAbs(path) {
				path = filepath.Join(x.Dir, a)
			}
			if info, err := os.Stat(path); err != nil || !info.Mode().IsRegular() || info.Size() > largestKeyed {
				continue
			}
			if f, err := os.Open(path); err == nil {
				_, _ = io.Copy(h, f) // what cannot be read is not part of the key
				_ = f.Close()
			}
		}
	}
	return filepath.Join(s.state, "seeds", x.Name+"-"+hex.EncodeToString(h.Sum(nil)[:8]))
}

// begin starts a service that has a seed: with the data that the seed made, if that is kept. The lock is held.
func (s *Set) begin(ctx context.Context, x *service) error {
	if x.Seed == nil || !x.Data {
		if err := s.run(ctx, x); err != nil {
			return err
		}
		return s.seed(ctx, x)
	}
	kept := s.snapshot(x)
	if _, err := os.Stat(kept); err == nil {
		if err := s.restore(x, kept); err != nil {
			return err
		}
		return s.run(ctx, x)
	}
	began := time.Now()
	if err := s.clear(x); err != nil {
		return err
	}
	err := s.run(ctx, x)
	if err == nil {
		err = s.seed(ctx, x)
	}
	if err != nil {
		return err
	}
	s.end(x)
	if entries, err := os.ReadDir(s.data(x)); err == nil && len(entries) == 0 {
		// it keeps nothing there when it stops, so it is seeded each time
		x.Data = false
		s.say(x.Name, logs.Note, "it left nothing in its folder {data} when it stopped, so its seed is run before "+
			"each drill")
		if err := s.run(ctx, x); err != nil {
			return err
		}
		return s.seed(ctx, x)
	}
	if err := s.keep(x, kept); err != nil {
		return fmt.Errorf("service %s: its data cannot be kept: %w", x.Name, err)
	}
	s.say(x.Name, logs.Note, fmt.Sprintf("seeded in %v; drills begin with that data",
		text.Measured(time.Since(began))))
	return s.run(ctx, x)
}

// seed runs the command that fills a service, where it has one.
func (s *Set) seed(ctx context.Context, x *service) error {
	if x.Seed == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, x.StartTimeout)
	defer cancel()
	if r := proc.Run(ctx, s.command(x, x.Seed)); r.Err != nil {
		return fmt.Errorf("service %s could not be seeded: %w%s", x.Name, r.Err, last(r.Lines))
	}
	return nil
}

// again has a service that was seeded begin anew with what the seed made. The lock is held.
func (s *Set) again(ctx context.Context, x *service) error {
	if !x.Data || x.theirs {
		return s.seed(ctx, x)
	}
	s.end(x)
	return s.begin(ctx, x)
}

// clear makes the folder of a service's data, with nothing in it. It is Night Drill's own.
func (s *Set) clear(x *service) error {
	dir := s.data(x)
	if err := os.RemoveAll(dir); err != nil {
		return fmt.Errorf("service %s: %w", x.Name, err)
	}
	return os.MkdirAll(dir, 0o700)
}

// keep keeps the data as it is now, in place of what was kept before.
func (s *Set) keep(x *service, to string) error {
	old, _ := filepath.Glob(filepath.Join(s.state, "seeds", x.Name+"-"+strings.Repeat("?", 16)))
	for _, dir := range slices.Concat(old, []string{to + ".new"}) {
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	if err := copyTree(s.data(x), to+".new"); err != nil {
		return err
	}
	return os.Rename(to+".new", to)
}

// restore brings the data back to what was kept.
func (s *Set) restore(x *service, from string) error {
	if err := os.RemoveAll(s.data(x)); err != nil {
		return fmt.Errorf("service %s: %w", x.Name, err)
	}
	if err := os.MkdirAll(filepath.Dir(s.data(x)), 0o700); err != nil {
		return err
	}
	if err := copyTree(from, s.data(x)); err != nil {
		return fmt.Errorf("service %s: its data cannot be restored: %w", x.Name, err)
	}
	return nil
}

// copyTree copies a folder with its permissions and owners; sockets and pipes are left out.
func copyTree(from, to string) error {
	type dated struct {
		path string
		mode fs.FileMode
	}
	var dirs []dated
	err := filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		out := filepath.Join(to, rel)
		switch {
		case d.IsDir():
			dirs = append(dirs, dated{out, info.Mode().Perm()})
			err = os.Mkdir(out, 0o700)
		case d.Type()&fs.ModeSymlink != 0:
			var target string
			if target, err = os.Readlink(path); err == nil {
				err = os.Symlink(target, out)
			}
		case d.Type().IsRegular():
			err = copyFile(path, out, info.Mode().Perm())
		default:
			return nil
		}
		if own, ok := info.Sys().(*syscall.Stat_t); ok && err == nil && os.Geteuid() == 0 {
			err = os.Lchown(out, int(own.Uid), int(own.Gid))
		}
		return err
	})
	for _, d := range slices.Backward(dirs) { // last, as nothing can be put into some of them
		err = errors.Join(err, os.Chmod(d.path, d.mode))
	}
	return err
}

func copyFile(from, to string, mode fs.FileMode) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if _, err = io.Copy(out, in); err == nil { // where the file system can, the blocks are shared
		err = out.Chmod(mode)
	}
	return errors.Join(err, out.Close())
}
