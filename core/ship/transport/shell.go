package transport

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/gzip"
	"golang.org/x/crypto/ssh"

	"vornix/core/base/safefile"
)

// shell is what an account can have done on the server's side by commands, where it may run any.
// Only the POSIX shell's language and programs that are nearly everywhere are used; what is missing
// is done over SFTP. One shell does it all, since to start one may take long: it reads what its
// owner has set up.
type shell struct {
	ssh  *ssh.Client
	root string
	sum  string // the command that takes SHA-256
	gzip bool
	find bool // one that prints sizes and times

	mu      sync.Mutex // one command at a time
	session *ssh.Session
	in      io.Writer
	out     *bufio.Reader
	mark    string // ends what a command prints
}

const shellMark = "vornix-shell-ok"

// newShell asks what the far side can do; nil when it runs no commands, or not by a shell.
func newShell(ctx context.Context, client *ssh.Client, root string) *shell {
	var nonce [12]byte
	_, _ = rand.Read(nonce[:]) // it never fails
	sh := &shell{ssh: client, root: root, mark: "vornix" + hex.EncodeToString(nonce[:])}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	var err error
	if sh.session, err = client.NewSession(); err != nil {
		return nil
	}
	stop := context.AfterFunc(ctx, func() { sh.session.Close() })
	defer stop()
	if sh.in, err = sh.session.StdinPipe(); err != nil {
		return nil
	}
	out, err := sh.session.StdoutPipe()
	if err != nil || sh.session.Start("exec sh") != nil {
		sh.session.Close()
		return nil
	}
	sh.out = bufio.NewReaderSize(out, 64<<10)
	// What is there at all must say so first: a server that runs only its own command answers to no question.
	if _, err := io.WriteString(sh.in, "cd -- "+quote(root)+" && echo "+shellMark+"\n"); err != nil {
		return nil
	}
	for range 50 { // some say something before
		line, err := sh.out.ReadString('\n')
		if err != nil {
			sh.session.Close()
			return nil
		}
		if strings.TrimSpace(line) == shellMark {
			words, err := sh.do(ctx,
				`openssl dgst -sha256 -r </dev/null | grep -q e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855 && echo openssl; command -v sha256sum >/dev/null && echo sha256sum; command -v shasum >/dev/null && echo shasum; command -v gzip >/dev/null && echo gzip; find . -maxdepth 0 -printf 'find\n'; true`)
			if err != nil {
				return nil
			}
			has := strings.Fields(string(words))
			sh.gzip, sh.find = slices.Contains(has, "gzip"), slices.Contains(has, "find")
			switch { // the fastest first
			case slices.Contains(has, "openssl"):
				sh.sum = "openssl dgst -sha256 -r"
			case slices.Contains(has, "sha256sum"):
				sh.sum = "sha256sum"
			case slices.Contains(has, "shasum"):
				sh.sum = "shasum -a 256"
			}
			return sh
		}
	}
	sh.session.Close()
	return nil
}

// do runs a command in the root and gives what it prints, whatever bytes that may be.
func (sh *shell) do(ctx context.Context, command string) ([]byte, error) {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	stop := context.AfterFunc(ctx, func() { sh.session.Close() })
	defer stop()
	fail := func(err error) ([]byte, error) {
		sh.session.Close()
		if ctx.Err() != nil {
			err = ctx.Err()
		}
		return nil, err
	}
	if _, err := io.WriteString(sh.in,
		"{ "+command+"\n} 2>/dev/null\nprintf '\\n%s %d\\n' "+sh.mark+" $?\n"); err != nil {
		return fail(err)
	}
	var b bytes.Buffer
	end := []byte("\n" + sh.mark + " ")
	for {
		line, err := sh.out.ReadSlice('\n')
		b.Write(line)
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
			return fail(err)
		}
		if b.Len() > maxPrinted {
			return fail(fmt.Errorf("a command printed more than %d bytes", maxPrinted))
		}
		tail := b.Bytes()
		if len(tail) > len(line)+len(end) {
			tail = tail[len(tail)-len(line)-len(end):]
		}
		if at := bytes.LastIndex(tail, end); at >= 0 && tail[len(tail)-1] == '\n' {
			all := b.Bytes()
			if code := strings.TrimSpace(string(tail[at+len(end):])); code != "0" {
				return nil, fmt.Errorf("a command ended with %s", code)
			}
			return all[:len(all)-len(tail)+at], nil
		}
	}
}

const maxPrinted = 256 << 20

// quote makes one word of the shell's language.
func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// run runs a command in the root and gives what it prints.
func (sh *shell) run(ctx context.Context, command string, in io.Reader) (string, error) {
	var out, said bounded
	err := sh.start(ctx, command, in, &out, &said)
	if err != nil {
		if text := strings.TrimSpace(said.String()); text != "" && !isLost(err) {
			err = fmt.Errorf("%w: %s", err, lastLine(text))
		}
	}
	return out.String(), err
}

func lastLine(s string) string { return s[strings.LastIndex(s, "\n")+1:] }

func (sh *shell) start(ctx context.Context, command string, in io.Reader, out, said io.Writer) error {
	session, err := sh.ssh.NewSession()
	if err != nil {
		return err
	}
	defer session.Close()
	session.Stdout, session.Stderr = out, said
	if in != nil {
		session.Stdin = in
	} else if _, err := session.StdinPipe(); err != nil { // open until the session is closed
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- session.Run(posix("cd -- " + quote(sh.root) + " && { " + command + "\n}")) }()
	select {
	case err := <-ended:
		return err
	case <-ctx.Done(): // a server may wait for its command before it answers, and nobody waits for that here
		session.Close()
		select {
		case <-ended:
		case <-time.After(stuck):
		}
		return ctx.Err()
	}
}

// posix has a script run by sh, whatever shell the account has. All that the account's shell sees
// are digits between quotes, which mean the same to each.
func posix(script string) string {
	var b strings.Builder
	b.WriteString(`exec sh -c 'eval "$(printf %b "`)
	for _, c := range []byte(script) {
		fmt.Fprintf(&b, `\0%03o`, c)
	}
	b.WriteString(`")"'`)
	return b.String()
}

// stuck is how long a command may take to end when it was told to.
const stuck = 200 * time.Millisecond

// bounded keeps the first of what is written.
type bounded struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (b *bounded) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if room := 1<<20 - b.b.Len(); room > 0 {
		b.b.Write(p[:min(len(p), room)])
	}
	return len(p), nil
}

func (b *bounded) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.String()
}

// command runs one that the target names. It ends with its process group when the connection does:
// a second process waits for the end of its input, since servers pass on signals only for some
// accounts.
func (sh *shell) command(ctx context.Context, command string) (string, error) {
	out, err := sh.run(ctx,
		"exec 3<&0; ( cat <&3; kill 0 ) >/dev/null 2>&1 & w=$!\n( exec 3<&-; "+command+
			"\n) </dev/null; s=$?; kill $w 2>/dev/null; exit $s", nil)
	var exit *ssh.ExitError
	if errors.As(err, &exit) {
		err = fmt.Errorf("it ended with %d: %s", exit.ExitStatus(), lastLine(strings.TrimSpace(out+"\n"+err.Error())))
	}
	return out, err
}

// list finds the files in folders with sizes and times; compressed, since names are much alike.
func (sh *shell) list(ctx context.Context, folders []string) ([]Info, error) {
	words := make([]string, len(folders))
	for i, f := range folders {
		words[i] = quote("./" + f)
	}
	command := "find " + strings.Join(words, " ") + ` -maxdepth 1 -type f -printf '%s %T@ %p\n'`
	if sh.gzip {
		command += " | gzip -6c"
	}
	out, err := sh.do(ctx, command+"; true")
	if err != nil {
		return nil, err
	}
	var in io.Reader = bytes.NewReader(out)
	if sh.gzip {
		z, err := gzip.NewReader(in)
		if err != nil {
			return nil, err
		}
		in = z
	}
	var list []Info
	scan := bufio.NewScanner(in)
	for scan.Scan() {
		parts := strings.SplitN(scan.Text(), " ", 3)
		if len(parts) != 3 {
			return nil, errors.New("find printed something else than was asked for")
		}
		size, err := strconv.ParseInt(parts[0], 10, 64)
		if err != nil {
			return nil, err
		}
		seconds, _, _ := strings.Cut(parts[1], ".")
		t, err := strconv.ParseInt(seconds, 10, 64)
		if err != nil {
			return nil, err
		}
		list = append(list, Info{path.Clean(parts[2]), size, time.Unix(t, 0).UTC()})
	}
	return list, scan.Err()
}

// hash takes hashes on the far side.
func (sh *shell) hash(ctx context.Context, rels []string) (map[string]string, error) {
	var names strings.Builder
	for _, rel := range rels {
		names.WriteString("./" + rel + "\n")
	}
	out, err := sh.do(ctx, "tr '\\n' '\\0' <<'"+sh.mark+"' | xargs -0 "+sh.sum+"\n"+names.String()+sh.mark+"\ntrue")
	if err != nil {
		return nil, err
	}
	sums := map[string]string{}
	for line := range strings.SplitSeq(string(out), "\n") {
		if len(line) > 68 && (line[64:68] == "  ./" || line[64:68] == " *./") {
			sums[line[68:]] = line[:64]
		}
	}
	if len(sums) == 0 {
		// none of the files is there, or the command is not what it is called
		return nil, errors.New("no hashes were printed")
	}
	return sums, nil
}

// pour sends a file to a command that writes it and takes its hash. It gives the number of bytes sent, and the hash.
func (sh *shell) pour(ctx context.Context, in io.ReaderAt, size int64, to string, packed bool,
	advanced func(int64)) (sent int64, sum string, err error) {
	r, w := io.Pipe()
	count := &counter{w: w}
	go func() {
		source := &told{safefile.Until(ctx, io.NewSectionReader(in, 0, size)), advanced}
		if !packed {
			_, err := io.CopyBuffer(struct{ io.Writer }{count}, source, make([]byte, 256<<10))
			w.CloseWithError(err)
			return
		}
		z, _ := gzip.NewWriterLevel(count, gzip.BestSpeed)
		_, err := io.Copy(z, source)
		if err == nil {
			err = z.Close()
		}
		w.CloseWithError(err)
	}()
	command := "tee " + quote("./"+to) + " | " + sh.sum
	if packed {
		command = "gzip -dc | " + command
	}
	out, err := sh.run(ctx, command, r)
	r.Close()
	sum, _, _ = strings.Cut(strings.TrimSpace(out), " ")
	return count.n, sum, err
}

// told tells how much was read.
type told struct {
	r        io.Reader
	advanced func(int64)
}

func (t *told) Read(b []byte) (int, error) {
	n, err := t.r.Read(b)
	t.advanced(int64(n))
	return n, err
}

// counter counts what is written.
type counter struct {
	w io.Writer
	n int64
}

func (c *counter) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	c.n += int64(n)
	return n, err
}
