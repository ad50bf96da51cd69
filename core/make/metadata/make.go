package metadata

import (
	"slices"

	"vornix/core/base/charset"
	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/template"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/source/assetgraph"
	"vornix/core/source/scene"
)

// File is a metadata file.
type File struct {
	Path  string
	Map   string // the one map it is about; "" when it is about the whole project
	Place string // inside or beside
	Data  []byte
}

// Options for Make.
type Options struct {
	// Bundles are those that were packed; nil: they are not packed yet, and files that speak of them are not complete.
	Bundles []Bundle
	// Finished says that everything else is there that the files name, such as pictures.
	Finished bool
}

// Make fills and writes all metadata files of the project. Findings of severity error mean that the files break a rule
// of the game.
func Make(p *project.Project, g *assetgraph.Graph, o Options) ([]File, []finding.Finding) {
	m := &maker{p: p, g: g, o: o, all: Scenes(g)}
	m.languages, m.findings = Languages(p, g)
	m.whole = &about{facts: Look(p, g, m.all), bundles: o.Bundles, packed: o.Bundles != nil}
	if !m.whole.packed {
		m.whole.bundles = PlannedBundles(p, m.whole.facts.Maps)
	}
	m.found(checkFacts(p, g, m.whole)...)
	for i := range p.Profile.Addon.Files {
		switch p.Profile.Addon.Files[i].Each {
		case "map":
			for _, one := range m.all {
				m.file(i, m.whole.of(p, g, one), one.Name, nil)
			}
		case "language":
			for l := range m.languages {
				m.file(i, m.whole, "", &m.languages[l])
			}
		default:
			m.file(i, m.whole, "", nil)
		}
	}
	m.found(checkLanguages(p, m.languages)...)
	m.found(m.agree()...)
	m.found(unknownFields(p)...)
	finding.Sort(m.findings)
	return m.files, slices.CompactFunc(m.findings, func(a, b finding.Finding) bool {
		return a.ID == b.ID && a.Text == b.Text && a.Place == b.Place
	})
}

type maker struct {
	p         *project.Project
	g         *assetgraph.Graph
	o         Options
	all       []*scene.Map
	whole     *about
	languages []Language
	files     []File
	findings  []finding.Finding
}

func (m *maker) found(list ...finding.Finding) { m.findings = append(m.findings, list...) }

// file writes one of the profile's files.
func (m *maker) file(i int, a *about, mapName string, l *Language) {
	f := &m.p.Profile.Addon.Files[i]
	values := fillFields(m.p, a)
	m.found(check(m.p, values, m.o)...)
	s := scopeOf(values).with(languageScope(m.p, &m.languages[0], &m.languages[0]))
	names := map[string]string{"name": m.p.File.Project.Name, "version": m.p.File.Project.Version, "map": mapName}
	if l != nil {
		s = s.with(languageScope(m.p, &m.languages[0], l))
		names["language"] = l.Code
	}
	b := &builder{p: m.p, about: a, main: &m.languages[0], languages: m.languages}
	if mapName != "" {
		s = s.with(b.mapItem(a.facts.Maps[0], s))
	}
	place := m.p.Profile.Doc.At("addon", "file", i, "path")
	content, err := m.content(f, i, b, values, s)
	if err == nil {
		content, err = (&charset.Text{Encoding: "utf-8"}).WithContent(string(content)).Write(f.Style())
	}
	if err != nil {
		m.found(finding.AddonFile.At(place, "%s can't be written: %v", profile.Fill(f.Path, names), err))
		return
	}
	m.files = append(m.files, File{Path: profile.Fill(f.Path, names), Map: mapName, Place: f.Place, Data: content})
}

func (m *maker) content(f *profile.AddonFile, i int, b *builder, values []value, s scope) ([]byte, error) {
	if f.Form == "text" {
		t, err := template.NewFile(f.Path, f.Template, f.Escape)
		if err != nil {
			return nil, err
		}
		out, err := t.Fill(b.data(s))
		return []byte(out), err
	}
	root, table := f.Root, b.flat(values, s, f.Place == "inside")
	if f.Structure != nil {
		table = b.one(f.Structure, []any{"addon", "file", i, "structure"}, s)
	} else if root == "" && f.Form == "ini" {
		root = m.p.File.Project.Name
	}
	if root == "" && f.Form == "xml" {
		root = "addon"
	}
	return write(f.Form, root, f.Style().Encoding, table)
}

// Err turns findings of severity error into an error; nil when there are none.
func Err(list []finding.Finding) error {
	if finding.Count(list, finding.Error) == 0 {
		return nil
	}
	return &fault.Fault{What: "the metadata breaks rules of the game", Why: "The game or the workshop would refuse it.",
		Do: "Correct the errors above."}
}
