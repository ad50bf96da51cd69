package zipfile

import (
	"context"
	"fmt"
	"io"
	"runtime"

	"vornix/core/base/group"
	"vornix/core/base/safefile"
)

// Copy writes an entry's content to w, checked as by Open, until ctx ends.
func (e *File) Copy(ctx context.Context, w io.Writer) error {
	r, err := e.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	_, err = io.Copy(w, safefile.Until(ctx, r))
	return err
}

// Verify reads entries in parallel and describes the fault of each; the text is empty for an entry
// without one. It skips an entry that would bring the total above MaxVerified bytes; the text of
// that entry states so. The error is ctx's.
func Verify(ctx context.Context, files []*File) ([]string, error) {
	trouble := make([]string, len(files))
	g, ctx := group.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	left := int64(MaxVerified)
	for i, e := range files {
		if trouble[i] = e.Trouble; e.Trouble != "" || e.Dir {
			continue
		}
		if e.Size > left {
			trouble[i] = fmt.Sprintf("it was not read: the entries say that they unpack to more than %d bytes",
				int64(MaxVerified))
			continue
		}
		left -= e.Size
		g.Go(func() error {
			if err := e.Copy(ctx, io.Discard); err != nil {
				trouble[i] = err.Error()
			}
			return ctx.Err()
		})
	}
	return trouble, g.Wait()
}
