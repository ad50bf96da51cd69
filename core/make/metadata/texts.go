package metadata

import (
	"errors"
	"io/fs"
	"maps"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/suggest"
	"vornix/core/base/tomlfile"
	"vornix/core/config/project"
	"vornix/core/source/assetgraph"
)

// LanguageFile is what a file of texts in one language holds: languages/de.toml.
type LanguageFile struct {
	Addon map[string]string `toml:"addon" jsonschema:"description=Metadata fields that are translated"`
	Maps  map[string]string `toml:"maps" jsonschema:"description=Titles of maps"`
	Texts map[string]string `toml:"texts" jsonschema:"description=Texts of the project's own\\, by their names"`
}

// Language is a language with its texts.
type Language struct {
	Code string
	File string // slash path in the project
	LanguageFile
	doc *tomlfile.Document
}

// languageCode is a tag as in RFC 5646: en, pt-BR, zh-Hant.
var languageCode = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[a-z]{2,3}(-[A-Za-z0-9]{2,8})*$`)
})

// Languages reads the files of texts of a project, the main language first, which the others are
// held to. What is wrong with them is found too. Without any there is the main language alone.
func Languages(p *project.Project, g *assetgraph.Graph) (list []Language, findings []finding.Finding) {
	main := Language{Code: p.File.Project.Language}
	dir := p.File.Sources.Languages
	entries, err := os.ReadDir(p.Join(dir))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		findings = append(findings,
			finding.FileUnreadable.At(fault.Place{File: dir}, "the texts can't be read: %v", err))
	}
	for _, e := range entries {
		code, ok := strings.CutSuffix(e.Name(), ".toml")
		if !ok || e.IsDir() {
			continue
		}
		rel := path.Join(dir, e.Name())
		if !languageCode().MatchString(code) {
			findings = append(findings,
				finding.LanguageUnknown.At(fault.Place{File: rel}, "%q is the code of no language", code))
			continue
		}
		l := Language{Code: code, File: rel}
		data, err := os.ReadFile(p.Join(rel))
		if err != nil {
			findings = append(findings,
				finding.FileUnreadable.At(fault.Place{File: rel}, "the texts can't be read: %v", err))
			continue
		}
		var wrong []finding.Finding
		l.doc, wrong = tomlfile.Decode(rel, data, &l.LanguageFile)
		findings = append(findings, wrong...)
		if len(wrong) > 0 {
			continue
		}
		if code == main.Code {
			main = l
			continue
		}
		list = append(list, l)
	}
	list = append([]Language{main}, list...)
	return list, append(findings, untranslated(p, g, list)...)
}

// untranslated finds what a language lacks, and what it has left over.
func untranslated(p *project.Project, g *assetgraph.Graph, list []Language) (findings []finding.Finding) {
	if len(list) > 1 || len(p.Profile.Addon.Languages) > 0 && list[0].File != "" {
		for _, code := range p.Profile.Addon.Languages {
			if code != list[0].Code && !slices.ContainsFunc(list, func(l Language) bool { return l.Code == code }) {
				findings = append(findings,
					finding.LanguageMissing.At(fault.Place{File: p.File.Sources.Languages},
						"%s shows %s, and there is no %s.toml", p.Profile.Game.Title, code, code))
			}
		}
	}
	var fields, titles []string
	for _, f := range p.Profile.Addon.Fields {
		if f.Translated {
			fields = append(fields, f.Name)
		}
	}
	// without any, titles are names, the same everywhere
	translated := slices.ContainsFunc(list[1:], func(l Language) bool { return len(l.Maps) > 0 })
	for _, m := range Scenes(g) {
		titles = append(titles, m.Name)
	}
	for i, l := range list {
		if l.doc == nil {
			continue
		}
		if known := p.Profile.Addon.Languages; len(known) > 0 && !slices.Contains(known, l.Code) {
			findings = append(findings,
				finding.LanguageUnknown.At(fault.Place{File: l.File}, "%s does not show %s", p.Profile.Game.Title,
					l.Code).Doing("It shows %s.", strings.Join(known, ", ")))
		}
		parts := []struct {
			table     string
			has       map[string]string
			may, must []string
		}{
			{"addon", l.Addon, fields, fields},
			{"maps", l.Maps, titles, slices.DeleteFunc(slices.Clone(titles), func(string) bool { return !translated })},
			{"texts", l.Texts, slices.Sorted(maps.Keys(list[0].Texts)), slices.Sorted(maps.Keys(list[0].Texts))},
		}
		for _, part := range parts {
			if i == 0 && part.table == "texts" {
				continue // the main language says which texts there are
			}
			if i > 0 {
				for _, key := range part.must {
					if strings.TrimSpace(part.has[key]) == "" && !(part.table == "addon" && written(p, key) == "") {
						findings = append(findings,
							finding.LanguageMissing.At(l.doc.At(part.table, key), "%s has no text for %s.%s", l.Code,
								part.table, key))
					}
				}
			}
			if part.table == "maps" && !g.Complete() {
				continue
			}
			for _, key := range slices.Sorted(maps.Keys(part.has)) {
				if slices.Contains(part.may, key) {
					continue
				}
				f := finding.LanguageLeft.At(l.doc.At(part.table, key), "%s has a text for %s.%s, which there is not",
					l.Code, part.table, key)
				if near := suggest.Word(key, part.may); near != "" {
					f = f.Doing("Did you mean %q?", near)
				}
				findings = append(findings, f)
			}
		}
	}
	return findings
}
