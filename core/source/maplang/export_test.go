package maplang

// KeywordExamples lists the example of every keyword and every variant, by what it stands under,
// for the test that holds the documentation to the grammar.
func KeywordExamples() map[string][]string {
	list := map[string][]string{}
	for keyword, r := range grammar {
		parent := r.parents[0]
		if keyword == "face" || keyword == "row" || keyword == "paint" {
			parent = grammar[parent].example
		}
		list[parent] = append(list[parent], r.example)
		for _, v := range r.variants {
			list[parent] = append(list[parent], v.example)
		}
	}
	return list
}

// Keywords lists every keyword.
func Keywords() []string {
	var list []string
	for keyword := range grammar {
		list = append(list, keyword)
	}
	return list
}
