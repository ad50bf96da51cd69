package cli

import (
	"vornix/core/ship/deploy"
	"vornix/core/ship/publish"
)

// The small results in JSON; larger ones stand with their commands. docs/schema/answers.json is made of all of them.
type (
	// editedAnswer is what addon write says when somebody changed a file by hand.
	editedAnswer struct {
		File string `json:"file"`
		Diff string `json:"diff"`
	}
	keyAnswer struct {
		File   string `json:"file"`
		Public string `json:"public"` // the public key in one word
	}
	welcomeAnswer struct {
		Folder string   `json:"folder"`
		Page   string   `json:"page"`
		Files  []string `json:"files"`
	}
	lockAnswer struct {
		Target string         `json:"target"`
		Holder *deploy.Holder `json:"holder"` // null for nobody
	}
	retractAnswer struct {
		Version   string `json:"version"`
		Retracted bool   `json:"retracted"`
	}
	pagesAnswer struct {
		Folder string          `json:"folder"`
		Files  []string        `json:"files"`
		Plans  []*publish.Plan `json:"plans"`
	}
	loginAnswer struct {
		Account  string `json:"account"`
		Workshop string `json:"workshop"`
		Kept     string `json:"kept"` // where the token is
	}
	standAnswer struct {
		URL  string `json:"url"`
		Game string `json:"game"`
	}
	standWorkshopAnswer struct {
		URL      string   `json:"url"`
		Accounts []string `json:"accounts"`
		Kinds    []string `json:"kinds"`
	}
)
