package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/format/vcdiff"
	"vornix/core/format/zipdelta"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

// deltaAnswer is what 'delta make' and 'delta apply' say.
type deltaAnswer struct {
	zipdelta.Stats
	File string `json:"file"`
	Size int64  `json:"size"`
	SHA  string `json:"sha256,omitempty"`
}

func (a *app) deltaCommand() *cobra.Command {
	cmd := only(&cobra.Command{
		Use:   "delta",
		Short: "Make and apply binary deltas (VCDIFF, RFC 3284) between any two files",
		Example: `  vornix delta make old.parcel new.parcel change.vcdiff
  vornix delta apply old.parcel change.vcdiff new.parcel`,
	})
	cmd.AddCommand(a.deltaMakeCommand(), a.deltaApplyCommand())
	return cmd
}

// workers is how many jobs run at once.
func (a *app) workers() int {
	if a.jobs > 0 {
		return a.jobs
	}
	return runtime.GOMAXPROCS(0)
}

// advance tells a progress how many bytes of a total are done; nil where nothing may move.
func (a *app) advance(what string, total int64) func(int64) {
	p := a.out.Progress()
	if p == nil {
		return nil
	}
	done := int64(0)
	return func(n int64) {
		done += n
		p.Advanced("", what, done, total)
	}
}

func (a *app) deltaMakeCommand() *cobra.Command {
	var standard, asFiles, overwrite bool
	var compress string
	cmd := &cobra.Command{
		Use:   "make OLD NEW OUT.vcdiff",
		Short: "Write what makes NEW of OLD",
		Long: `Make writes a VCDIFF file (RFC 3284) that makes NEW of OLD. Two archives are compared by their unpacked entries: what is the same
under another name or at another place costs almost nothing, and 'delta apply' packs what changed again, to the same bytes.

All other deltas can be read by other programs: by those that know LZMA sections and Adler-32 checksums as they are; with --standard by every
reader of RFC 3284. --as-files takes archives as any other file.`,
		Example: `  vornix delta make out/releases/1.0.0/highline-1.0.0.parcel out/bundles/highline-1.1.0.parcel change.vcdiff
  vornix delta make old.bin new.bin change.vcdiff --standard`,
		Args: between(3, 3, "the old file, the new file and the delta to write"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			o := vcdiff.Options{Workers: a.workers(), Standard: standard}
			switch compress {
			case "lzma":
				o.Compression = vcdiff.LZMA
			case "none":
			default:
				return &fault.Fault{Kind: fault.Usage, What: "--compress must be lzma or none",
					Do: "Leave it out for lzma."}
			}
			old, oldSize, err := openFile(args[0])
			if err != nil {
				return err
			}
			defer old.Close()
			now, newSize, err := openFile(args[1])
			if err != nil {
				return err
			}
			defer now.Close()
			out, err := createOut(args[2], overwrite)
			if err != nil {
				return err
			}
			defer out.close()
			wrote := a.advance("comparing", newSize)
			stats, err := (*zipdelta.Stats)(nil), zipdelta.ErrPlain
			if !standard && !asFiles {
				stats, err = zipdelta.Encode(ctx, old, oldSize, now, newSize, out,
					zipdelta.Options{Workers: a.workers(), Compression: o.Compression, Wrote: wrote})
			}
			if errors.Is(err, zipdelta.ErrPlain) {
				o.Wrote, o.Size = wrote, newSize
				var s *vcdiff.Stats
				s, err = vcdiff.Encode(ctx, old, oldSize, io.NewSectionReader(now, 0, newSize), out, o)
				if s != nil {
					stats = &zipdelta.Stats{Stats: *s}
				}
			}
			if wrote != nil {
				wrote(newSize) // whatever it was that was compared, it is over
			}
			if err != nil {
				return err
			}
			d := deltaAnswer{Stats: *stats, File: filepath.ToSlash(args[2]), Size: out.Size(), SHA: out.SHA256()}
			if err := out.Commit(); err != nil {
				return err
			}
			answer.Result = d
			if stats.Archive {
				a.out.Say("entries: %d as they are, %d compared, %d new", stats.Same, stats.Changed, stats.Fresh)
				a.out.Say("only Vornix puts archives together again; for other programs there are --as-files and --standard")
				if stats.AsIs > 0 {
					a.out.Say("%s packed by another program, and compared packed: these take more",
						release.Count(stats.AsIs, "entry"))
				}
			}
			a.out.Say("copied %s, brought along %s", release.Bytes(stats.Copied),
				release.Bytes(stats.Added+stats.Again))
			a.out.Say("%s: %s, %s of the new file", filepath.ToSlash(args[2]), release.Bytes(d.Size),
				percent(d.Size, newSize))
			return nil
		}),
	}
	cmd.Flags().BoolVar(&standard, "standard", false,
		"keep to the letter of RFC 3284: no checksums, no compression of sections, archives as files")
	cmd.Flags().BoolVar(&asFiles, "as-files", false, "compare archives as they are packed")
	cmd.Flags().StringVar(&compress, "compress", "lzma", "`how` sections are compressed: lzma or none")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "replace OUT when it is there")
	return cmd
}

func (a *app) deltaApplyCommand() *cobra.Command {
	var overwrite, hash bool
	var most string
	cmd := &cobra.Command{
		Use:   "apply OLD DELTA OUT",
		Short: "Write the new file that a delta makes of OLD",
		Long: `Apply reads VCDIFF files of any program (RFC 3284; sections compressed with LZMA, Adler-32 checksums, code tables of their own). OUT
appears only when it is whole. Nothing is written for a damaged delta, or one that was made from another file.`,
		Example: `  vornix delta apply old.parcel change.vcdiff new.parcel
  vornix delta apply old.bin change.vcdiff new.bin --max-size 2G --json`,
		Args: between(3, 3, "the old file, the delta and the file to write"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			limit := int64(0)
			if most != "" {
				var err error
				if limit, err = parseSize(most); err != nil {
					return err
				}
			}
			old, oldSize, err := openFile(args[0])
			if err != nil {
				return err
			}
			defer old.Close()
			change, _, err := openFile(args[1])
			if err != nil {
				return err
			}
			defer change.Close()
			out, err := createOut(args[2], overwrite)
			if err != nil {
				return err
			}
			defer out.close()
			if !hash {
				out.Unhashed()
			}
			stats, err := zipdelta.Decode(ctx, old, oldSize, change, out,
				zipdelta.Limits{Workers: a.workers(), Most: limit})
			if err != nil {
				return deltaFault(err, args[0], args[1])
			}
			d := deltaAnswer{Stats: zipdelta.Stats{Stats: *stats}, File: filepath.ToSlash(args[2]), Size: out.Size(),
				SHA: out.SHA256()}
			if err := out.CommitCache(); err != nil { // it can be made again
				return err
			}
			answer.Result = d
			checked := "its checksums are right"
			if !stats.Adler {
				checked = "the delta has no checksums"
			}
			if hash {
				checked += ", SHA-256 " + d.SHA
			}
			a.out.Say("%s: %s, %s", d.File, release.Bytes(d.Size), checked)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "replace OUT when it is there")
	cmd.Flags().BoolVar(&hash, "hash", false, "say the SHA-256 of OUT too")
	cmd.Flags().StringVar(&most, "max-size", "", "`size` that OUT may come to, such as 100G (default 64G)")
	return cmd
}

// deltaAbout is what 'inspect' says of a delta.
type deltaAbout struct {
	*vcdiff.About
	File    string `json:"file"`
	Size    int64  `json:"size"`
	Archive bool   `json:"archive"`
}

func (a *app) inspectDelta(name string) (any, error) {
	f, size, err := openFile(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	about, header, err := vcdiff.Inspect(f)
	if err != nil {
		return nil, err
	}
	d := deltaAbout{about, filepath.ToSlash(name), size, zipdelta.IsHeader(header)}
	kind := "VCDIFF delta"
	if d.Archive {
		kind = "VCDIFF delta between two archives, by their unpacked entries"
	}
	a.out.Say("%s, %s, in %s; the new file has %s", kind, release.Bytes(size), release.Count(about.Windows, "window"),
		release.Bytes(about.Target))
	if !d.Archive {
		a.out.Say("made from a file of %s or more", release.Bytes(about.OldLeast))
	}
	var has []string
	for _, x := range []struct {
		is   bool
		what string
	}{{about.Adler, "checksums (Adler-32)"}, {about.LZMA, "LZMA sections"}, {about.Table, "a code table of its own"},
		{about.Back, "windows that copy from the new file"},
		{about.Header > 0 && !d.Archive, "an application header"}} {
		if x.is {
			has = append(has, x.what)
		}
	}
	if len(has) > 0 {
		a.out.Say("with %s", strings.Join(has, ", "))
	}
	return d, nil
}

// deltaFault says what is wrong with a delta, or with what it is applied to.
func deltaFault(err error, old, change string) error {
	var format *vcdiff.FormatError
	switch {
	case errors.Is(err, vcdiff.ErrSource):
		return &fault.Fault{Kind: fault.Refused, What: "the delta does not fit this file",
			Place: fault.Place{File: filepath.ToSlash(old)}, Err: err, Why: "Nothing was written.",
			Do: "Find the file that the delta was made from, or get one for this."}
	case errors.As(err, &format):
		return &fault.Fault{What: "the delta is no good", Place: fault.Place{File: filepath.ToSlash(change)}, Err: err,
			Why: "Nothing was written.", Do: "Get it again."}
	}
	return err
}

// percent says how much of a whole a part is.
func percent(part, whole int64) string {
	if whole == 0 {
		return "all"
	}
	p := float64(part) / float64(whole) * 100
	if p < 10 {
		return fmt.Sprintf("%.2g %%", p)
	}
	return fmt.Sprintf("%.0f %%", p)
}

// openFile opens a plain file for reading.
func openFile(name string) (*os.File, int64, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, 0, &fault.Fault{Kind: fault.Usage, What: "the file can't be opened",
			Place: fault.Place{File: filepath.ToSlash(name)}, Err: err, Do: "Check the path."}
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fault.Fault{Kind: fault.Usage, What: "this is no file", Place: fault.Place{File: filepath.ToSlash(name)},
			Do: "Name a file; for folders there is 'vornix patch make'."}
	}
	if err != nil {
		_ = f.Close() // it was only read
		return nil, 0, err
	}
	return f, info.Size(), nil
}

// outFile is a file that a command was told to write.
type outFile struct {
	*safefile.File
	dir *safefile.Dir
}

func (o *outFile) close() {
	o.Abort()
	_ = o.dir.Close() // it was only a handle
}

// createOut begins a file; one that is there is replaced on word only.
func createOut(name string, overwrite bool) (*outFile, error) {
	if _, err := os.Lstat(name); err == nil && !overwrite {
		return nil, &fault.Fault{Kind: fault.Refused, What: "the file already exists",
			Place: fault.Place{File: filepath.ToSlash(name)}, Why: "Nothing is overwritten unasked.",
			Do: "Choose another name, or add --overwrite."}
	}
	d, err := safefile.MakeDir(filepath.Dir(name))
	if err != nil {
		return nil, err
	}
	f, err := d.Create(filepath.Base(name))
	if err != nil {
		_ = d.Close() // nothing was written
		return nil, err
	}
	return &outFile{f, d}, nil
}
