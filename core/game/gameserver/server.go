package gameserver

import (
	"context"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/go-chi/chi/v5"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/config/profile"
)

// AddressFile is the file in a server's folder in which the stand-in writes its address while it runs.
const AddressFile = "stand-server.url"

// Server is a running stand-in.
type Server struct {
	URL      string
	dir      string
	profile  *profile.Profile
	o        Options
	http     *http.Server
	listener net.Listener
	stop     context.CancelFunc
	running  sync.WaitGroup
	players  crowd
	ended    chan struct{}
	end      sync.Once

	loading sync.Mutex // held while the folder is read
	mu      sync.Mutex // of what follows
	status  *Status
	loads   int
	turn    int // of the rotation
	fail    Failure
	events  []string
}

// Options for Start.
type Options struct {
	Listen  string        // address to listen on; empty: a free port on this machine only
	Token   string        // when set, what changes something wants it as a bearer token
	Watch   bool          // load anew when something in the folder changes
	Players int           // simulated players
	Round   time.Duration // the rotation goes on after this time; 0: only when it is told to
	Fail    Failure       // from the beginning
}

// Failure is a way in which a server can go wrong.
type Failure struct {
	Mode string `json:"mode"`          // one of Failures; empty for none
	Map  string `json:"map,omitempty"` // of the mode load: the map that it can't load; empty for all
}

// Failures are the ways in which a stand-in can go wrong, and what each does.
var Failures = map[string]string{
	"load":  "loads no map, or not the one that is named",
	"error": "answers 500",
	"drop":  "ends every connection without an answer",
	"hang":  "never answers",
	"slow":  "answers after three seconds",
	"deaf":  "does not load anew, whatever changes or is asked",
	"crash": "ends, once it is told to load anew",
}

// Start loads the folder dir and answers over HTTP until Close:
//
//	GET /status        what is loaded, as a Status
//	POST /reload       load everything anew, then as /status
//	POST /next         play the next map of the rotation, then as /status
//	POST /fail         go wrong, as a Failure says
//	GET /files/NAME    a bundle, as players get it
//	GET /events        what happened, a line each
func Start(dir string, p *profile.Profile, o Options) (*Server, error) {
	if _, ok := Failures[o.Fail.Mode]; !ok && o.Fail.Mode != "" {
		return nil, unknownFailure(o.Fail.Mode)
	}
	d, err := safefile.MakeDir(dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	s := &Server{dir: dir, profile: p, o: o, fail: o.Fail, ended: make(chan struct{})}
	if err := s.reload(); err != nil {
		return nil, err
	}
	if s.listener, err = Listen(dir, o.Listen); err != nil {
		return nil, &fault.Fault{Kind: fault.Unreachable, What: "the stand-in can't listen on " + o.Listen, Err: err,
			Do: "Choose another address with --listen, or leave it out for a free one."}
	}
	s.URL = "http://" + s.listener.Addr().String()
	if err := d.WriteFile(AddressFile, []byte(s.URL+"\n")); err != nil {
		s.listener.Close()
		return nil, err
	}
	s.http = &http.Server{Handler: OwnHost(o.Listen)(s.handler()), ReadHeaderTimeout: 5 * time.Second,
		ReadTimeout: 15 * time.Second, WriteTimeout: 10 * time.Minute, IdleTimeout: time.Minute,
		MaxHeaderBytes: 16 << 10}
	ctx, stop := context.WithCancel(context.Background())
	s.stop = stop
	s.running.Go(func() { _ = s.http.Serve(s.listener) }) // ends with ErrServerClosed when Close is called
	if o.Watch {
		if err := s.watch(ctx); err != nil {
			s.Close()
			return nil, err
		}
	}
	if o.Round > 0 {
		s.running.Go(func() { s.rounds(ctx) })
	}
	for i := range o.Players {
		s.running.Go(func() { s.players.play(ctx, s, i) })
	}
	return s, nil
}

func unknownFailure(mode string) error {
	known := []string{}
	for name := range Failures {
		known = append(known, name)
	}
	slices.Sort(known)
	return &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("a stand-in does not know how to go wrong by %q", mode),
		Do: "It knows " + strings.Join(known, ", ") + "."}
}

func (s *Server) handler() http.Handler {
	r := chi.NewRouter()
	r.Use(s.goWrong)
	r.Get("/status", func(w http.ResponseWriter, _ *http.Request) { s.answer(w) })
	r.Get("/events", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		s.mu.Lock()
		defer s.mu.Unlock()
		fmt.Fprintln(w, strings.Join(s.events, "\n"))
	})
	r.Get("/files/{name}", func(w http.ResponseWriter, req *http.Request) {
		name := chi.URLParam(req, "name")
		if safefile.CheckForeign(name) != nil || strings.Contains(name, "/") ||
			!strings.EqualFold(path.Ext(name), path.Ext(s.profile.Pack.Name)) {
			refuse(w, http.StatusNotFound, "there is no such bundle")
			return
		}
		root, err := os.OpenRoot(s.dir) // no link leads out of it
		if err != nil {
			refuse(w, http.StatusNotFound, "there is no such bundle")
			return
		}
		defer root.Close()
		f, err := root.Open(path.Join(s.profile.Server.Bundles, name))
		if err != nil {
			refuse(w, http.StatusNotFound, "there is no such bundle")
			return
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil || !info.Mode().IsRegular() {
			refuse(w, http.StatusNotFound, "there is no such bundle")
			return
		}
		http.ServeContent(w, req, name, info.ModTime(), f)
	})
	r.Group(func(r chi.Router) {
		r.Use(s.guarded)
		r.Post("/reload", func(w http.ResponseWriter, _ *http.Request) {
			if s.failing().Mode == "crash" {
				go s.Close()
				panic(http.ErrAbortHandler)
			}
			if err := s.reload(); err != nil {
				refuse(w, http.StatusInternalServerError, err.Error())
				return
			}
			s.answer(w)
		})
		r.Post("/next", func(w http.ResponseWriter, _ *http.Request) {
			s.next()
			s.answer(w)
		})
		r.Post("/fail", func(w http.ResponseWriter, req *http.Request) {
			var f Failure
			if err := json.NewDecoder(http.MaxBytesReader(w, req.Body, 1<<16)).Decode(&f); err != nil {
				refuse(w, http.StatusBadRequest, "write it as {\"mode\": \"load\", \"map\": \"...\"}: "+err.Error())
				return
			}
			if _, ok := Failures[f.Mode]; !ok && f.Mode != "" {
				refuse(w, http.StatusBadRequest, unknownFailure(f.Mode).Error())
				return
			}
			s.Fail(f)
			w.WriteHeader(http.StatusNoContent)
		})
	})
	return r
}

// guarded wants the token.
func (s *Server) guarded(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		if s.o.Token != "" &&
			subtle.ConstantTimeCompare([]byte(req.Header.Get("Authorization")), []byte("Bearer "+s.o.Token)) != 1 {
			refuse(w, http.StatusUnauthorized, "the token is missing or wrong")
			return
		}
		next.ServeHTTP(w, req)
	})
}

// goWrong does what the mode of failure says. How it goes wrong can always be changed.
func (s *Server) goWrong(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		if req.URL.Path != "/fail" {
			switch s.failing().Mode {
			case "error":
				refuse(w, http.StatusInternalServerError, "it goes wrong, as it was told to")
				return
			case "drop":
				panic(http.ErrAbortHandler)
			case "hang":
				<-req.Context().Done()
				return
			case "slow":
				select {
				case <-req.Context().Done():
				case <-time.After(3 * time.Second):
				}
			}
		}
		next.ServeHTTP(w, req)
	})
}

// Fail makes the server go wrong from now on.
func (s *Server) Fail(f Failure) {
	s.mu.Lock()
	s.fail = f
	s.mu.Unlock()
	s.say("goes wrong: %s %s", f.Mode, f.Map)
}

func (s *Server) failing() Failure {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.fail
}

// say writes down what happened.
func (s *Server) say(format string, args ...any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.events = append(s.events, time.Now().Format("15:04:05.000 ")+fmt.Sprintf(format, args...))
	if len(s.events) > 1000 {
		s.events = s.events[500:]
	}
}

// Status is what /status answers.
func (s *Server) Status() *Status {
	s.mu.Lock()
	defer s.mu.Unlock()
	st := *s.status
	st.Loads, st.Failing = s.loads, s.fail.Mode
	st.Playing = ""
	for i := range st.Rotation { // the first from its turn on that can be played
		name := st.Rotation[(s.turn+i)%len(st.Rotation)]
		if m := st.Find(name); m != nil && m.Loaded {
			st.Playing = name
			break
		}
	}
	if s.o.Players > 0 {
		st.Players = s.players.told(s.o.Players)
	}
	return &st
}

// reload loads the folder. What plays goes on as long as it is in the rotation.
func (s *Server) reload() error {
	s.loading.Lock()
	defer s.loading.Unlock()
	fail := s.failing()
	if fail.Mode == "deaf" && s.status != nil {
		return nil
	}
	st, err := Load(s.dir, s.profile)
	if err != nil {
		return err
	}
	if fail.Mode == "load" {
		for i := range st.Maps {
			if m := &st.Maps[i]; fail.Map == "" || fail.Map == m.Name {
				m.Loaded, m.Error = false, "it goes wrong, as it was told to"
			}
		}
	}
	playing := ""
	if s.status != nil {
		playing = s.Status().Playing
	}
	s.mu.Lock()
	s.status = st
	s.loads++
	s.turn = max(0, slices.Index(st.Rotation, playing))
	s.mu.Unlock()
	s.say("loaded %d maps, plays %s", len(st.Maps), s.Status().Playing)
	return nil
}

// next plays the next map of the rotation.
func (s *Server) next() {
	playing := s.Status().Playing
	s.mu.Lock()
	if at := slices.Index(s.status.Rotation, playing); at >= 0 {
		s.turn = (at + 1) % len(s.status.Rotation)
	}
	s.mu.Unlock()
	s.say("plays %s", s.Status().Playing)
}

func (s *Server) rounds(ctx context.Context) {
	tick := time.NewTicker(s.o.Round)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			s.next()
		}
	}
}

// settled is for how long nothing may change before what has changed is loaded.
const settled = 150 * time.Millisecond

// watch loads anew when something changes where the game looks: at lists and bundles.
func (s *Server) watch(ctx context.Context) error {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return err
	}
	d, err := safefile.OpenDir(s.dir)
	if err != nil {
		w.Close()
		return err
	}
	defer d.Close()
	folders := []string{s.profile.Server.Bundles}
	files := map[string]bool{}
	for _, l := range s.profile.Server.Lists {
		folders = append(folders, path.Dir(l.File))
		files[filepath.Join(s.dir, filepath.FromSlash(l.File))] = true
	}
	slices.Sort(folders)
	for _, f := range slices.Compact(folders) {
		if path.Clean(f) != "." {
			if err := d.MakeFolder(path.Clean(f)); err != nil {
				w.Close()
				return err
			}
		}
		if err := w.Add(filepath.Join(s.dir, filepath.FromSlash(f))); err != nil {
			w.Close()
			return &fault.Fault{What: "the stand-in can't watch " + f, Err: err,
				Do: "Start it with --no-watch and tell it to load anew."}
		}
	}
	bundles := filepath.Join(s.dir, filepath.FromSlash(s.profile.Server.Bundles))
	s.running.Go(func() {
		defer w.Close()
		timer := time.NewTimer(time.Hour)
		timer.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case e := <-w.Events:
				if files[e.Name] || filepath.Dir(e.Name) == bundles &&
					strings.EqualFold(filepath.Ext(e.Name), path.Ext(s.profile.Pack.Name)) {
					timer.Reset(settled)
				}
			case err := <-w.Errors:
				s.say("can't watch: %v", err)
			case <-timer.C:
				s.say("something has changed")
				if err := s.reload(); err != nil {
					s.say("can't load: %v", err)
				}
			}
		}
	})
	return nil
}

func (s *Server) answer(w http.ResponseWriter) {
	w.Header().Set("Content-Type", "application/json")
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	_ = e.Encode(s.Status()) // the only error is a client that has gone
}

// refuse answers with an error as JSON.
func refuse(w http.ResponseWriter, code int, why string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(code)
	_ = json.NewEncoder(w).Encode(map[string]string{"error": why}) // the only error is a client that has gone
}

// Ended is closed when the server has ended, also by itself.
func (s *Server) Ended() <-chan struct{} { return s.ended }

// Close stops the server and removes its address file.
func (s *Server) Close() (err error) {
	s.end.Do(func() {
		defer close(s.ended)
		err = s.shut()
	})
	return err
}

func (s *Server) shut() error {
	s.stop()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	err := s.http.Shutdown(ctx)
	if errors.Is(err, context.DeadlineExceeded) { // somebody who waits for an answer that does not come
		err = s.http.Close()
	}
	s.running.Wait()
	d, openErr := safefile.OpenDir(s.dir)
	if openErr == nil {
		openErr = d.Remove(AddressFile)
		d.Close()
	}
	return errors.Join(err, openErr)
}
