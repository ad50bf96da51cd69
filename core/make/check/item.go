package check

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"vornix/core/base/finding"
	"vornix/core/base/suggest"
	"vornix/core/config/profile"
	"vornix/core/source/scene"
)

// items holds the game's own objects to the kinds and properties that the profile lists.
func (c *mapChecker) items() {
	known := c.profile.Map.Items
	if len(known) == 0 {
		return
	}
	kinds := slices.Sorted(maps.Keys(known))
	for _, it := range c.m.Items {
		properties, ok := known[it.Kind]
		if !ok {
			c.unknown(finding.ItemUnknown, it.Place, "item", it.Kind, kinds)
			continue
		}
		keys := slices.Sorted(maps.Keys(properties))
		given := map[string]bool{}
		for _, pair := range it.Pairs {
			given[pair.Key] = true
			rule, ok := properties[pair.Key]
			if !ok {
				f := finding.ItemProperty.At(pair.Place, "a %s has no property %q", it.Kind, pair.Key)
				if near := suggest.Word(pair.Key, keys); near != "" {
					f = f.Doing("Did you mean %q?", near)
				} else {
					f = f.Doing("Its properties are: %s.", orNone(keys))
				}
				c.add(f)
				continue
			}
			if why := wrongValue(rule, pair); why != "" {
				f := finding.ItemProperty.At(pair.Place, "%s of the %s %s, and is %q", pair.Key, it.Kind, why,
					pair.Value)
				if near := suggest.Word(pair.Value, rule.Allowed); near != "" {
					f = f.Doing("Did you mean %q?", near)
				}
				c.add(f)
			}
		}
		for _, key := range keys {
			if properties[key].Required && !given[key] {
				c.add(finding.ItemProperty.At(it.Place, "the %s has no %s", it.Kind, key).Doing("Add %s= with %s.", key,
					cmp.Or(typeWords[properties[key].Type], "the name of a "+properties[key].Type)))
			}
		}
	}
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, ", ")
}

// typeWords say what a value of a type is.
var typeWords = map[string]string{
	"text": "a text", "number": "a number", "whole": "a whole number", "flag": "yes or no",
	"colour": "a colour such as #ffe2b8",
	"point":  "three numbers joined by commas", "sound": "the name of a sound", "material": "the name of a material",
	"sprite": "the name of a sprite", "model": "the name of a model",
}

var colourForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^#[0-9a-fA-F]{6}$`) })

// wrongValue says what a property must be, when it isn't.
func wrongValue(rule profile.Property, pair scene.Pair) string {
	must := "must be " + cmp.Or(typeWords[rule.Type], "the name of a "+rule.Type)
	number, err := strconv.ParseFloat(pair.Value, 64)
	switch rule.Type {
	case "number", "whole":
		switch {
		case err != nil || rule.Type == "whole" && number != float64(int64(number)):
			return must
		case rule.Least != nil && number < *rule.Least || rule.Most != nil && number > *rule.Most:
			return "must be " + limits(rule)
		}
	case "flag":
		if pair.Value != "yes" && pair.Value != "no" {
			return must
		}
	case "colour":
		if !colourForm().MatchString(pair.Value) {
			return must
		}
	case "point":
		parts := strings.Split(pair.Value, ",")
		if len(parts) != 3 ||
			slices.ContainsFunc(parts, func(s string) bool { _, err := strconv.ParseFloat(s, 64); return err != nil }) {
			return must
		}
	}
	if n := utf8.RuneCountInString(pair.Value); rule.Longest > 0 && n > rule.Longest {
		return fmt.Sprintf("must have at most %d characters", rule.Longest)
	}
	if len(rule.Allowed) > 0 && !slices.Contains(rule.Allowed, pair.Value) {
		return "must be one of " + strings.Join(rule.Allowed, ", ")
	}
	return ""
}

func limits(rule profile.Property) string {
	switch {
	case rule.Most == nil:
		return fmt.Sprintf("at least %g", *rule.Least)
	case rule.Least == nil:
		return fmt.Sprintf("at most %g", *rule.Most)
	}
	return fmt.Sprintf("from %g to %g", *rule.Least, *rule.Most)
}
