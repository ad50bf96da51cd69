package deploy

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"

	"github.com/dsnet/compress/bzip2"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"vornix/core/base/group"
	"vornix/core/base/safefile"
)

// endings of the compressed forms, as their own programs name files.
var endings = map[string]string{"gzip": ".gz", "bzip2": ".bz2", "zstd": ".zst"}

// compress adds the compressed copies that the mirror has beside each file (RFC 1952, bzip2, RFC
// 8878). They depend on the files alone, and are kept on this machine.
func (t *Target) compress(ctx context.Context, goal *Goal) error {
	d, err := safefile.MakeDir(t.state)
	if err != nil {
		return err
	}
	defer d.Close()
	forms := t.profile.Server.Mirror.Compress
	files := goal.Files
	copies := make([]GoalFile, len(files)*len(forms))
	wanted := map[string]bool{}
	g, ctx := group.WithContext(ctx)
	g.SetLimit(2)
	for i := range files {
		for j, form := range forms {
			name := files[i].SHA256 + endings[form]
			at := "mirror/" + name
			if wanted[name] {
				return fmt.Errorf("%s is there twice", files[i].Path)
			}
			wanted[name] = true
			g.Go(func() error {
				if _, err := d.Stat(at); err != nil {
					if err := pack(ctx, d, at, form, files[i].Source); err != nil {
						return err
					}
				}
				sum, size, err := safefile.HashFileUntil(ctx, d.Join(at))
				copies[i*len(forms)+j] = GoalFile{Path: files[i].Path + endings[form],
					File: File{SHA256: sum, Size: size, Role: Packed, Maps: files[i].Maps}, Source: d.Join(at)}
				return err
			})
		}
	}
	if err := g.Wait(); err != nil {
		return err
	}
	if kept, err := os.ReadDir(d.Join("mirror")); err == nil { // what no file of now has is not needed again
		for _, e := range kept {
			if !wanted[e.Name()] && !safefile.IsTemp(e.Name()) {
				_ = d.RemoveFile("mirror/" + e.Name())
			}
		}
	}
	goal.Files = slices.Concat(goal.Files, copies)
	return nil
}

// pack writes a compressed copy. Nothing of the machine or the day gets into it.
func pack(ctx context.Context, d *safefile.Dir, to, form, from string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := d.Create(to)
	if err != nil {
		return err
	}
	defer out.Abort()
	var w io.WriteCloser
	switch form {
	case "gzip":
		w, err = gzip.NewWriterLevel(out, gzip.BestCompression)
	case "bzip2":
		w, err = bzip2.NewWriter(out, &bzip2.WriterConfig{Level: bzip2.BestCompression})
	default:
		w, err = zstd.NewWriter(out, zstd.WithEncoderLevel(zstd.SpeedBetterCompression), zstd.WithEncoderConcurrency(1))
	}
	if err != nil {
		return err
	}
	if _, err := io.Copy(w, safefile.Until(ctx, in)); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	return out.CommitCache()
}
