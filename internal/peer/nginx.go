package peer

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"
)

// Nginx serves a folder with the web server of that name until the test ends. more is put into its
// server block. It returns the address.
func Nginx(t testing.TB, root, more string) string {
	t.Helper()
	return nginx(t, root, "", more)
}

// nginx is Nginx with modules that are loaded.
func nginx(t testing.TB, root, modules, more string) string {
	t.Helper()
	program := Need(t, "nginx")
	dir := t.TempDir()
	address := freeAddress(t)
	user := ""
	if os.Getuid() == 0 {
		user = "user root;" // its workers must be able to read the test's folders
	}
	config := fmt.Sprintf(`%[6]s %[1]s
daemon off; worker_processes 2; pid %[2]s/pid; error_log %[2]s/error.log;
events { worker_connections 1024; }
http {
  access_log %[2]s/access.log;
  default_type application/octet-stream;
  types { application/json json; text/html html; text/plain txt; }
  client_body_temp_path %[2]s/a; proxy_temp_path %[2]s/b; fastcgi_temp_path %[2]s/c; uwsgi_temp_path %[2]s/d; scgi_temp_path %[2]s/e;
  server { listen %[3]s; root %[4]s; %[5]s }
}
`, user, dir, address, root, more, modules)
	name := filepath.Join(dir, "nginx.conf")
	if err := os.WriteFile(name, []byte(config), 0o644); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(program, "-p", dir, "-c", name, "-e", filepath.Join(dir, "error.log"))
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	})
	answers(t, address, filepath.Join(dir, "error.log"))
	return "http://" + address
}

// answers waits until a server listens; the test fails with its log when it does not.
func answers(t testing.TB, address, log string) {
	t.Helper()
	for range 500 {
		if c, err := net.Dial("tcp", address); err == nil {
			c.Close()
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	said, _ := os.ReadFile(log)
	t.Fatalf("nobody answers at %s:\n%s", address, said)
}
