package standin

import (
	"context"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"

	"vornix/core/fault"
	"vornix/core/profile"
	"vornix/core/safefile"
)

// AddressFile is the file in a server's folder in which the stand-in writes its address while it runs.
const AddressFile = "stand-server.url"

// Server is a running stand-in.
type Server struct {
	URL      string
	dir      string
	profile  *profile.Profile
	token    string
	http     *http.Server
	listener net.Listener
	mu       sync.Mutex
	status   *Status
}

// Options for Start.
type Options struct {
	Listen string // address to listen on; empty: a free port on this machine only
	Token  string // when set, /reload wants it as a bearer token
}

// Start loads the folder dir and answers over HTTP until Close:
//
//	GET /status   what is loaded, as a Status
//	POST /reload  load everything anew, then as /status
func Start(dir string, p *profile.Profile, o Options) (*Server, error) {
	if o.Listen == "" {
		o.Listen = "127.0.0.1:0"
	}
	d, err := safefile.MakeDir(dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	s := &Server{dir: dir, profile: p, token: o.Token}
	if err := s.reload(); err != nil {
		return nil, err
	}
	if s.listener, err = net.Listen("tcp", o.Listen); err != nil {
		return nil, &fault.Fault{Kind: fault.Unreachable, What: "the stand-in can't listen on " + o.Listen, Err: err, Do: "Choose another address with --listen, or leave it out for a free one."}
	}
	s.URL = "http://" + s.listener.Addr().String()
	if err := d.WriteFile(AddressFile, []byte(s.URL+"\n")); err != nil {
		s.listener.Close()
		return nil, err
	}
	r := chi.NewRouter()
	r.Get("/status", func(w http.ResponseWriter, _ *http.Request) { s.answer(w) })
	r.Post("/reload", func(w http.ResponseWriter, req *http.Request) {
		if s.token != "" && subtle.ConstantTimeCompare([]byte(req.Header.Get("Authorization")), []byte("Bearer "+s.token)) != 1 {
			refuse(w, http.StatusUnauthorized, "the token is missing or wrong")
			return
		}
		if err := s.reload(); err != nil {
			refuse(w, http.StatusInternalServerError, err.Error())
			return
		}
		s.answer(w)
	})
	s.http = &http.Server{Handler: r, ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = s.http.Serve(s.listener) }() // ends with ErrServerClosed when Close is called
	return s, nil
}

// Status is what /status answers.
func (s *Server) Status() *Status {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.status
}

func (s *Server) reload() error {
	st, err := Load(s.dir, s.profile)
	if err != nil {
		return err
	}
	s.mu.Lock()
	s.status = st
	s.mu.Unlock()
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

// Close stops the server and removes its address file.
func (s *Server) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	err := s.http.Shutdown(ctx)
	d, openErr := safefile.OpenDir(s.dir)
	if openErr == nil {
		openErr = d.Remove(AddressFile)
		d.Close()
	}
	return errors.Join(err, openErr)
}
