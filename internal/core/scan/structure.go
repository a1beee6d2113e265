package scan

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"

	"polytome/internal/core/title"
	"polytome/internal/format/archive"
	"polytome/internal/format/container"
	"polytome/internal/size"
)

// structure looks for damage in archives and images, and for zeros in the files of an image. The
// error is what keeps an archive from being tested: a missing part or password.
func (v *verifier) structure(j *job, zeros []run) (finding, doubt string, err error) {
	if j.archive {
		a, err := archive.Open(j.path, archive.Options{Passwords: v.o.Passwords, Allow: slices.ContainsFunc(v.o.Allowed,
			func(p string) bool { return absolute(p) == absolute(j.path) })})
		if needsMore(err) {
			return "", "", err
		}
		if err != nil {
			return "the archive cannot be opened: " + plain(err), "", nil
		}
		defer a.Close()
		now := ""
		err = a.Test(func(e *archive.Entry) { now = e.Name }, func(int64) error { return v.ctx.Err() })
		if needsMore(err) {
			return "", "", err
		}
		if err != nil && v.ctx.Err() == nil {
			return fmt.Sprintf("the archive does not unpack: %s: %s", now, plain(err)), "", nil
		}
		return "", "", nil
	}
	longest := run{}
	for _, z := range zeros {
		if z.to-z.from > longest.to-longest.from {
			longest = z
		}
	}
	if j.form == title.Image {
		f, err := os.Open(j.path)
		if err != nil {
			return "", "", nil
		}
		defer f.Close()
		if all, err := container.OpenImage(f, j.size); err == nil && len(all.Volumes) > 0 && !all.Raw {
			if bad := folders(&all, 1<<20, 1<<22); bad != nil {
				return bad.Say, "", nil
			}
			return "", empty(&all, zeros), nil
		}
	}
	if longest.to-longest.from >= max(zeroMiddle, j.size/8) {
		doubt = fmt.Sprintf("from byte %s on, %s of it are zeros", size.Exact(longest.from),
			size.Format(longest.to-longest.from))
	}
	return "", doubt, nil
}

// needsMore reports whether an archive waits for a password, a part, or to be allowed.
func needsMore(err error) bool {
	var missing *archive.MissingPart
	var large *archive.TooLarge
	return errors.Is(err, archive.ErrPassword) || errors.As(err, &missing) || errors.As(err, &large)
}

// empty describes the first file in an image that has long runs of zeros where its data should be.
func empty(v *container.Image, zeros []run) (doubt string) {
	if len(zeros) == 0 {
		return ""
	}
	vol := v.Volumes[0]
	_ = fs.WalkDir(vol, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return nil
		}
		runs, err := vol.Where(name)
		if err != nil {
			return nil
		}
		for i, e := range runs {
			if e.At < 0 {
				continue
			}
			end := e.At + e.Length
			k, _ := slices.BinarySearchFunc(zeros, e.At, func(z run, at int64) int { return cmp.Compare(z.to, at+1) })
			for ; k < len(zeros) && zeros[k].from < end; k++ {
				from, to := max(zeros[k].from, e.At), min(zeros[k].to, end)
				switch {
				case to-from >= max(zeroMiddle, e.Length/8), to-from >= zeroTail && to == end && i == len(runs)-1:
					doubt = fmt.Sprintf("in it, %s of %s are zeros, from byte %s on", size.Format(to-from), name,
						size.Exact(from-e.At))
					return fs.SkipAll
				}
			}
		}
		return nil
	})
	return doubt
}
