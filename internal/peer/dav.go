package peer

import (
	"crypto/sha1"
	"encoding/base64"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"testing"
)

// DAVUser is let in by the WebDAV servers here.
var DAVUser = url.UserPassword("mole", "under the hill")

// passwords writes a file with DAVUser, as both servers read it.
func passwords(t testing.TB) string {
	t.Helper()
	word, _ := DAVUser.Password()
	sum := sha1.Sum([]byte(word))
	name := filepath.Join(t.TempDir(), "passwords")
	open(t, filepath.Dir(name))
	if err := os.WriteFile(name,
		fmt.Appendf(nil, "%s:{SHA}%s\n", DAVUser.Username(), base64.StdEncoding.EncodeToString(sum[:])),
		0o644); err != nil {
		t.Fatal(err)
	}
	return name
}

// open lets other accounts into a test's folder.
func open(t testing.TB, dir string) {
	t.Helper()
	for _, d := range []string{dir, filepath.Dir(dir)} {
		if err := os.Chmod(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
}

// NginxDAV serves a folder by WebDAV with nginx and its module dav-ext until the test ends. It
// returns the folder's address.
func NginxDAV(t testing.TB, root string) string {
	t.Helper()
	const module = "/usr/lib/nginx/modules/ngx_http_dav_ext_module.so"
	if _, err := os.Stat(module); err != nil {
		Missing(t, "the nginx module dav-ext")
	}
	return nginx(t, root, "load_module "+module+";", `auth_basic "files"; auth_basic_user_file `+passwords(t)+`; client_max_body_size 0;
dav_methods PUT DELETE MKCOL COPY MOVE; dav_ext_methods PROPFIND OPTIONS; min_delete_depth 0;`) + "/"
}

// Apache serves a folder by WebDAV with the web server of that name until the test ends. It returns
// the folder's address.
func Apache(t testing.TB, root string) string {
	t.Helper()
	apache := Need(t, "apache2")
	dir, address := t.TempDir(), freeAddress(t)
	open(t, dir)
	open(t, root)
	account := ""
	if os.Getuid() == 0 { // its workers refuse to be root
		u, err := user.Lookup("www-data")
		if err != nil {
			t.Fatal(err)
		}
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		for _, d := range []string{dir, root} {
			if err := os.Chown(d, uid, gid); err != nil {
				t.Fatal(err)
			}
		}
		account = "User www-data\nGroup www-data\n"
	}
	config := account
	for _, m := range []string{"mpm_event", "authn_core", "authn_file", "authz_core", "authz_user", "auth_basic", "dav",
		"dav_fs"} {
		config += fmt.Sprintf("LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", m, m)
	}
	config += fmt.Sprintf(`ServerRoot %[1]s
ServerName 127.0.0.1
Listen %[2]s
PidFile %[1]s/pid
ErrorLog %[1]s/error.log
DavLockDB %[1]s/locks
DocumentRoot %[3]s
<Directory %[3]s>
  Dav On
  AuthType Basic
  AuthName files
  AuthUserFile %[4]s
  Require valid-user
</Directory>
`, dir, address, root, passwords(t))
	name := filepath.Join(dir, "apache.conf")
	if err := os.WriteFile(name, []byte(config), 0o644); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(apache, "-D", "FOREGROUND", "-f", name)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	})
	answers(t, address, filepath.Join(dir, "error.log"))
	return "http://" + address + "/"
}
