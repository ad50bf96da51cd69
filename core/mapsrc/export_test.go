package mapsrc

// KeywordExamples lists the example of every keyword, for the test that holds the documentation to the grammar.
func KeywordExamples() []string {
	var list []string
	for _, r := range grammar {
		list = append(list, r.example)
	}
	return list
}

// KeywordExample is the example of a keyword.
func KeywordExample(keyword string) string { return grammar[keyword].example }

// Belongs says whether a keyword stands under another.
func Belongs(keyword, parent string) bool { return grammar[keyword].parent == parent }
