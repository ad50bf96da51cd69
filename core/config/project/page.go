package project

import (
	"maps"
	"slices"
	"strings"

	"vornix/core/base/finding"
	"vornix/core/base/safefile"
)

// Page is what a workshop shows of the project.
type Page struct {
	Title       string   `toml:"title" jsonschema:"description=Title on the workshop (default: the project's\\, or the map's where each bundle is an item)"`
	Description string   `toml:"description" jsonschema:"description=File in the project\\, in Markdown (default: the project's description)"`
	Tags        []string `toml:"tags" jsonschema:"description=Words by which players find it"`
	Pictures    []string `toml:"pictures" jsonschema:"description=Image files in the project that stand on the page after those of the game's profile"`
}

// Pages are the pages of a project: one, or one for each bundle.
type Pages struct {
	Page
	Bundles map[string]Page `toml:"bundle" jsonschema:"description=Of single bundles\\, by their names without the ending; what one leaves out is as above"`
}

// PageOf is what the project says of an item's page; bundle is empty where the project is one item.
func (p *Project) PageOf(bundle string) Page {
	page := p.File.Pages.Page
	one, ok := p.File.Pages.Bundles[bundle]
	if !ok {
		return page
	}
	if one.Title != "" {
		page.Title = one.Title
	}
	if one.Description != "" {
		page.Description = one.Description
	}
	if one.Tags != nil {
		page.Tags = one.Tags
	}
	if one.Pictures != nil {
		page.Pictures = one.Pictures
	}
	return page
}

// pages checks what the project says of its pages.
func (p *Project) pages() (list []finding.Finding) {
	check := func(at []any, page Page) {
		for _, file := range append([]string{page.Description}, page.Pictures...) {
			if file != "" && (safefile.CheckPath(file) != nil || strings.HasPrefix(file, StateDir+"/")) {
				list = append(list, p.Doc.Wrong(at, "%q is no file in the project", file))
			}
		}
	}
	check([]any{"page"}, p.File.Pages.Page)
	for _, name := range slices.Sorted(maps.Keys(p.File.Pages.Bundles)) {
		check([]any{"page", "bundle", name}, p.File.Pages.Bundles[name])
	}
	return list
}
