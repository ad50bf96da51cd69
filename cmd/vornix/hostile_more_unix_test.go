//go:build unix

package main_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"strings"
)

// profileWith is a game profile of the project's own: the demo's with something in place of something else.
func profileWith(old, now string) []byte {
	data, err := os.ReadFile("../../demo/profiles/kestrel-post.toml")
	if err != nil || !bytes.Contains(data, []byte(old)) {
		panic(fmt.Sprintf("the demo's profile has no %q: %v", old, err))
	}
	return bytes.Replace(data, []byte(old), []byte(now), 1)
}

// moreAttacks are those of a second round: projects, profiles, repositories and what Vornix itself
// keeps, as strangers ship them, and media.
func moreAttacks(add func(name string, files map[string][]byte, args string, exit int, say ...string)) {
	project := func(toml string, pairs ...any) map[string][]byte {
		files := inProject(pairs...)
		files["vornix.toml"] = []byte(hostileHead + toml)
		return files
	}
	with := func(files map[string][]byte, pairs ...any) map[string][]byte {
		for i := 0; i < len(pairs); i += 2 {
			switch v := pairs[i+1].(type) {
			case string:
				files[pairs[i].(string)] = []byte(v)
			case []byte:
				files[pairs[i].(string)] = v
			}
		}
		return files
	}

	// A repository that has Git run programs, wherever it lies: what it would do is leave a mark outside.
	const run = "echo owned > ../../victim.txt; touch /tmp/vornix-owned.txt; false"
	repository := func(at, config string) map[string][]byte {
		return map[string][]byte{at + "HEAD": []byte("ref: refs/heads/main\n"), at + "config": []byte(config),
			at + "objects/info/keep": nil, at + "refs/heads/keep": nil, at + "index": nil}
	}
	for name, repo := range map[string]map[string][]byte{
		"an embedded repository": repository("site/",
			"[core]\n\tbare = false\n\tworktree = .\n\tfsmonitor = \""+run+"\"\n"),
		"a repository": repository("site/.git/", "[core]\n\tfsmonitor = \""+run+"\"\n"),
		"a repository elsewhere": with(repository("evil/", "[core]\n\tfsmonitor = \""+run+"\"\n"),
			"site/.git", "gitdir: ../evil\n"),
		"a repository with an include": with(repository("site/.git/", "[include]\n\tpath = more\n"),
			"site/.git/more", "[core]\n\tfsmonitor = \""+run+"\"\n"),
		"a repository with a filter": with(repository("site/.git/", "[filter \"x\"]\n\tclean = \""+run+"\"\n"),
			"site/.gitattributes", "* filter=x\n", "site/a.txt", "a"),
		"a repository above the project":   repository(".git/", "[core]\n\tfsmonitor = \""+run+"\"\n"),
		"a repository with endless config": repository("site/.git/", strings.Repeat("[core]\n\teditor = x\n", 200000)),
	} {
		for _, command := range []string{"status", "status --json", "trust --plan", "deploy history site",
			"deploy site --plan", "release --rehearse --yes"} {
			if strings.HasPrefix(command, "release") {
				command = "release --dry --yes"
			}
			files := project("[target.site]\nkind = \"git\"\npath = \"site\"\n[release]\ntag = \"v{version}\"\n")
			for f, data := range repo {
				files[f] = data
			}
			add("git: "+name+": "+command, files, command, -3)
		}
	}
	add("git: a command as an address", project("[target.site]\nkind = \"git\"\nurl = \"ext::sh -c "+run+"\"\n"),
		"status", -2, "vornix.toml")

	// What a stranger ships as if Vornix had written it here.
	for name, files := range map[string]map[string][]byte{
		"a ledger of noise": {".vornix/ledger.jsonl": bytes.Repeat([]byte{0xff, '\n'}, 100000)},
		"a ledger that lies": {
			".vornix/ledger.jsonl": []byte(`{"kind":"release","version":"99.0.0","files":[{"path":"../../victim.txt","sha256":"00","size":1}]}` + "\n" + `{"kind":"deploy","target":"x","version":"../../.."}` + "\n")},
		"a link":                {".vornix": []byte(linkTo + "../../of")},
		"a lock that is a link": {".vornix/lock": []byte(linkTo + "../../victim.txt")},
		"states of noise": {".vornix/build.state": bytes.Repeat([]byte{0xff}, 1<<20),
			".vornix/pack.json": []byte("{"), ".vornix/release.json": []byte(strings.Repeat("[", 100000)),
			".vornix/times.json": []byte(`{"a":-1}`)},
		"a cache of links": {".vornix/cache/objects/00": []byte(linkTo + "../../../../victim.txt"),
			".vornix/cache/actions": []byte(linkTo + "/")},
		"a sweep that leads elsewhere": {
			".vornix/swept/1/sweep.json": []byte(`{"items":[{"path":"../../victim.txt"}]}`)},
	} {
		for _, command := range []string{"status", "check", "build", "sweep --plan", "restore --plan"} {
			all := inProject()
			for f, data := range files {
				all[f] = data
			}
			add("shipped state: "+name+": "+command, all, command, -3)
		}
	}

	// Profiles.
	for name, p := range map[string]string{
		"a loop without end": "{{range 100000000000}}{{end}}",
		"text that doubles": "{{$x := \"aaaaaaaaaaaaaaaa\"}}" + strings.Repeat("{{$x = printf \"%s%s\" $x $x}}",
			40) + "{{$x}}",
		"templates in circles": "{{define \"a\"}}{{template \"a\" .}}{{end}}{{template \"a\" .}}",
	} {
		data := profileWith("[files]",
			"[[addon.file]]\npath = \"x.txt\"\nform = \"text\"\ntemplate = '''"+p+"'''\n\n[files]")
		add("profile: "+name, project("", "profiles/kestrel-post.toml", data), "check", -3)
		add("profile: "+name+", written", project("", "profiles/kestrel-post.toml", data), "addon write", -2)
	}
	for name, form := range map[string]string{"a form of many": "(a{1000}){1000}", "a form that looks slow": "(a+)+b",
		"a long form": strings.Repeat("(a|b)?", 5000)} {
		add("profile: "+name,
			project("", "profiles/kestrel-post.toml",
				profileWith("[files]", "[map]\nname_form = '"+form+"'\n\n[files]"),
				"maps/"+strings.Repeat("a", 90)+".vnx", "map m\n"), "check", -3)
	}
	add("profile: the whole disk as the game",
		project("", "profiles/kestrel-post.toml", profileWith("[files]", "[files]\nown_folder = \"/\"")), "check", -3)

	// Media.
	u32 := func(v uint32) []byte { return binary.LittleEndian.AppendUint32(nil, v) }
	riff := func(body ...[]byte) []byte {
		return append(append([]byte("RIFF"), u32(0xffffffff)...), append([]byte("WAVE"), bytes.Join(body, nil)...)...)
	}
	for name, data := range map[string][]byte{
		"endless.wav": riff([]byte("fmt "), u32(0xfffffff0), []byte{1, 0}),
		"nothing.wav": riff([]byte("fmt "), u32(16), make([]byte, 16), []byte("data"), u32(0xffffffff)),
		"many.wav":    riff(bytes.Repeat(append([]byte("LIST"), u32(0)...), 500000)),
		"cut.ogg":     append([]byte("OggS\x00\x02"), bytes.Repeat([]byte{0xff}, 21)...),
		"lacing.ogg": append(append([]byte("OggS\x00\x02"), make([]byte, 20)...),
			bytes.Repeat([]byte{0xff}, 70000)...),
		"vorbis.ogg": append(append(append([]byte("OggS\x00\x02"), make([]byte, 20)...), 1, 30),
			append([]byte("\x01vorbis\x00\x00\x00\x00\xff"), bytes.Repeat([]byte{0xff}, 18)...)...),
		"blocks.flac":   append([]byte("fLaC"), bytes.Repeat([]byte{4, 0, 0, 0}, 500000)...),
		"huge.flac":     append([]byte("fLaC\x84\xff\xff\xff"), u32(0xffffffff)...),
		"nothing.flac":  append([]byte("fLaC\x80\x00\x00\x22"), make([]byte, 34)...),
		"tag.mp3":       append([]byte("ID3\x04\x00\x00\x7f\x7f\x7f\x7f"), make([]byte, 100)...),
		"tags.mp3":      bytes.Repeat([]byte("ID3\x04\x00\x00\x00\x00\x00\x00"), 300000),
		"sync.mp3":      bytes.Repeat([]byte{0xff, 0xfb, 0x10, 0xc0}, 500000),
		"frames.mp3":    bytes.Repeat([]byte{0xff, 0xf3, 0xff, 0xff}, 300000),
		"comment.ogg":   append([]byte("OggS"), bytes.Repeat([]byte("vorbis\xff\xff\xff\x7f"), 10000)...),
		"terminal.flac": []byte("fLaC\x84\x00\x00\x20\x00\x00\x00\x00\x01\x00\x00\x00\x10\x00\x00\x00TITLE=\x1b]0;owned\x07"),
	} {
		add("sound "+name+": inspect", map[string][]byte{name: data}, "inspect "+name, -1)
		add("sound "+name+": in a project", inProject("sounds/a/"+name, data), "check", -3)
		add("sound "+name+": built", inProject("sounds/a/"+name, data), "build", -3)
	}
	for name, sheet := range map[string]string{
		"endless frames": "size = [1, 1]\n[[state]]\nname = \"a\"\nframes = 1000000000\n",
		"negative sizes": "size = [-1, -1]\n[[state]]\nname = \"a\"\n",
		"huge sizes":     "size = [2000000000, 2000000000]\n[[state]]\nname = \"a\"\n",
		"many states":    "size = [16, 16]\n" + strings.Repeat("[[state]]\nname = \"a\"\n", 9000),
		"not TOML":       strings.Repeat("[", 100000),
	} {
		add("sprite: "+name, inProject("sprites/a.toml", sheet, "sprites/a.png", []byte("\x89PNG\r\n\x1a\n")), "check",
			-3)
	}

	// A bundle behind a compiled map, as maps carry what they need.
	hidden := append([]byte("VNM\x00"),
		zipOf(-1, entry{name: "../../victim.txt", data: []byte("owned")},
			entry{name: "vornix-fetched/x/state.json", data: []byte("{}")}, entry{name: "-rf", data: []byte("x")},
			entry{name: ".git/hooks/post-checkout", data: []byte("#!/bin/sh\n"), mode: 0o100755})...)
	for _, command := range []string{"inspect m.vnm", "extract m.vnm --to out", "try m.vnm --profile kestrel-post",
		"salvage m.vnm out.zip"} {
		add("bundle in a map: "+command, map[string][]byte{"m.vnm": hidden}, command, -3)
	}
	// A bundle that was exchanged before it is brought to a server.
	exchanged := project("[target.box]\nkind = \"folder\"\npath = \"box\"\n", "box/keep", "",
		"out/bundles/bad-1.0.0.parcel", zipOf(-1, entry{name: "../../victim.txt", data: []byte("owned")}))
	add("deploy: a bundle that nobody packed here", exchanged, "deploy box --yes --without-server", -2)
}
