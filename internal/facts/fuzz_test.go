package facts

import (
	"encoding/json"
	"testing"
)

// FuzzSnapshot holds that a snapshot that is read can be asked everything, and written and read again.
func FuzzSnapshot(f *testing.F) {
	f.Add([]byte(`{"format":2,"site":"x","taken":"2026-11-25T00:00:00Z","sources":[{"source":"files","where":"."}],"readings":[{"source":"settings","name":"site.title","value":"x","origin":{"file":"a"}}],"gaps":[]}`))
	f.Add([]byte(`{"format":1,"site":"x","pages":[{"path":"/","title":"t"}],"classes":[{"role":"code","kind":"file","mode":"0644","paths":["a"]}],"accept":[{"rule":"a.b","subject":"*","until":"2027-01-01"}]}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		var s Snapshot
		if json.Unmarshal(raw, &s) != nil {
			return
		}
		for _, term := range Catalogue() {
			s.Effective(term.Name)
			_ = s.Why(term.Name)
		}
		for list, fields := range Lists {
			items, seen := s.Items(list)
			if !seen {
				continue
			}
			for item := range items {
				_, _ = item.Subject(), item.Identity()
				for _, field := range fields {
					if _, known := item.Field(field.Name); !known {
						item.Why(field.Name)
					}
				}
			}
		}
		text, err := json.Marshal(&s)
		if err != nil {
			t.Fatalf("what was read cannot be written: %v", err)
		}
		var again Snapshot
		if err := json.Unmarshal(text, &again); err != nil {
			t.Fatalf("what was written cannot be read: %v: %s", err, text)
		}
	})
}

// FuzzValues holds that a text that is a value of a type is that value again when it is written; a size is written rounded.
func FuzzValues(f *testing.F) {
	for _, text := range []string{"30m", "8M", "2027-03-31", "Europe/London", "yes", "1.10", "0644", "a, b", "https://a.example/", ""} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, of := range []Type{String, Bool, Int, Duration, Zone, Mail, URL, Pattern, Date, Version, List, Mode} {
			v, err := of.Parse(text)
			if err != nil || v.Type() == "" {
				continue
			}
			again, err := of.Parse(v.String())
			if of != List && (err != nil || !again.Equal(v)) {
				t.Fatalf("%s %q is %q, which is %q again: %v", of, text, v, again, err)
			}
		}
	})
}
