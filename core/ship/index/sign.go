package index

import (
	"crypto"
	"slices"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/signature"
)

// Sign signs an index, in which nothing may change any more. known are the keys that readers of the
// last index hold this one to.
func (x *Index) Sign(keys []crypto.Signer, known []string, validDays int, now time.Time, lost bool) error {
	x.Keys, x.Signatures, x.Expires = nil, nil, ""
	for _, k := range keys {
		x.Keys = append(x.Keys, signature.Public(k))
	}
	if len(known) > 0 && !lost &&
		!slices.ContainsFunc(x.Keys, func(k string) bool { return slices.Contains(known, k) }) {
		return &fault.Fault{Kind: fault.Refused, What: "none of the keys that sign is one that signed the last index",
			Why: "Players who have that refuse any other: a stranger could have made it. Nothing was written.",
			Do:  "Change keys with an overlap: sign with the old one and the new one (--key OLD --key NEW) until everybody has been there, then with the new one alone. If the old one is lost: --lost-key, and tell players the new one."}
	}
	x.Issued = now.UTC().Format(time.RFC3339)
	if validDays > 0 {
		x.Expires = now.UTC().AddDate(0, 0, validDays).Format(time.RFC3339)
	}
	message, err := x.Payload()
	if err != nil {
		return err
	}
	for _, k := range keys {
		s, err := signature.Sign(k, message)
		if err != nil {
			return err
		}
		x.Signatures = append(x.Signatures, s)
	}
	return nil
}
