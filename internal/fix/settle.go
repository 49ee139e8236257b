package fix

import (
	"context"

	"weltaxis/internal/store"
)

// Settle looks at changes of rows that earlier runs began and of which nobody knows whether they were made, as where a connection was cut or the
// program was killed, and says in the journal what became of them. What cannot be looked at stays begun; so does what is neither as it was nor as it
// was to be.
func (e *Env) Settle(ctx context.Context) {
	records, err := ReadJournal(e.Journal.dir)
	if err != nil {
		return // whoever goes on says it
	}
	var site *store.Installation
	for _, record := range records {
		if record.Event != Begun || record.Run == e.Journal.run || e.Dialect == nil {
			continue
		}
		b, err := e.Journal.before(record.ID)
		if err != nil || len(b.Edits) == 0 {
			continue
		}
		if site == nil {
			if site, err = store.Open(ctx, e.Dialect, e.Stores); err != nil {
				return
			}
			defer site.Close()
		}
		counts := map[store.State]int{}
		for _, edit := range b.Edits {
			row, is := edit.(store.RowEdit)
			if !is {
				counts[store.Other]++
				continue
			}
			state, err := site.State(ctx, row)
			if err != nil {
				state = store.Other
			}
			counts[state]++
		}
		switch len(b.Edits) {
		case counts[store.After]:
			_ = e.Journal.event(record, Done, "whether it was made was not known; it was looked at again, and it was")
		case counts[store.Before]:
			_ = e.Journal.event(record, Failed, "whether it was made was not known; it was looked at again, and it was not")
		}
	}
}
