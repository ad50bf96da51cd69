package zipfile

import (
	"context"
	"errors"
	"fmt"
	"io"

	"vornix/core/base/group"
)

// Packing is raised whenever the same content would be packed to other bytes, as by another version
// of the library that does it: archives that were taken apart before can't be put together again
// then.
const Packing = 1

// Repack packs the content of one entry as Pack does, to the same bytes, without headers. An
// archive that Vornix wrote can be rebuilt from its contents. Callers must compare the result with
// the hash of the original.
func Repack(ctx context.Context, m Method, size int64, r io.Reader, w io.Writer, workers int) error {
	if m != Deflate && m != Zstd {
		return fmt.Errorf("%s is not written", m)
	}
	g, ctx := group.WithContext(ctx)
	workers = max(workers, 1)
	slots := make(chan chan []byte, workers)
	tasks := make(chan func() error)
	for range workers {
		g.Go(func() error {
			for t := range tasks {
				if err := t(); err != nil {
					return err
				}
			}
			return nil
		})
	}
	g.Go(func() error {
		defer close(slots)
		defer close(tasks)
		var before []byte
		for left := size; left > 0; {
			data := make([]byte, min(left, blockOf(m)))
			if _, err := io.ReadFull(r, data); err != nil {
				if errors.Is(err, io.EOF) {
					err = io.ErrUnexpectedEOF
				}
				return err
			}
			left -= int64(len(data))
			slot, back, last := make(chan []byte, 1), before, left == 0
			select {
			case slots <- slot:
			case <-ctx.Done():
				return ctx.Err()
			}
			select {
			case tasks <- func() error {
				packed, err := compress(m, data, back, last)
				slot <- packed
				return err
			}:
			case <-ctx.Done():
				return ctx.Err()
			}
			before = data[max(0, len(data)-window):]
		}
		return nil
	})
	g.Go(func() error {
		for slot := range slots {
			select {
			case packed := <-slot:
				if _, err := w.Write(packed); err != nil {
					return err
				}
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		return nil
	})
	return g.Wait()
}
