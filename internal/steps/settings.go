package steps

import (
	"cmp"
	"context"
	"fmt"

	"weltaxis/internal/dialect"
	"weltaxis/internal/discover"
	"weltaxis/internal/facts"
	"weltaxis/internal/gather"
	"weltaxis/internal/source/settings"
	"weltaxis/internal/store"
)

// Settings reads what the content system has been told.
var Settings = &gather.Step[settings.Told]{
	Name: "settings", Source: facts.Settings,
	Asked: func(ask gather.Request) bool { return ask.Site.Sources.Settings != nil },
	Where: func(ask gather.Request, _ settings.Told) string {
		set := ask.Site.Sources.Settings
		return cmp.Or(set.Root, set.API, "its database")
	},
	Gather: func(ctx context.Context, ask gather.Request, _ gather.Results) (settings.Told, facts.Seen, error) {
		told, seen, err := settings.Gather(ctx, ask.Dialect, ask.Stores)
		if err == nil && seen.Readings == nil && seen.Records == nil {
			err = gather.ErrUnseen
		}
		return told, seen, err
	},
}

// Recognition says what a folder looks like whose settings nobody has said how to read.
var Recognition = &gather.Step[nothing]{
	Name: "recognition", Source: facts.Settings,
	Asked: func(ask gather.Request) bool {
		return ask.Site.Sources.Settings == nil && ask.Site.Sources.Files != nil
	},
	Gather: recognise,
}

// recognise says, of a folder whose settings nobody has said how to read, which dialect it looks like, or what
// discovery would give.
func recognise(ctx context.Context, ask gather.Request, _ gather.Results) (nothing, facts.Seen, error) {
	root := ask.Site.Resolve(ask.Site.Sources.Files.Root)
	because := ""
	if known := discover.Recognise(dialect.Shipped(), "", discover.TracesIn(root)); len(known) > 0 && known[0].Sure > 0.5 {
		because = fmt.Sprintf("the site file names no dialect, and the folder looks like %s (sure: %.2f); write under sources: settings: {dialect: %s, root: ...}", known[0].Dialect, known[0].Sure, known[0].Dialect)
	} else {
		draft, err := discover.Discover(ctx, discover.Options{Name: "found", Root: root, Stores: store.Options{Root: root, Offline: ask.Offline}})
		if ctx.Err() != nil {
			return nothing{}, facts.Seen{}, ctx.Err()
		}
		if err != nil || len(draft.Findings) == 0 {
			return nothing{}, facts.Seen{}, nil // nothing there that looks like settings
		}
		because = fmt.Sprintf("the site file names no dialect; weltaxis dialect discover --root FOLDER would write %d of them as sure and suggest %d more", draft.Certain(), len(draft.Findings)-draft.Certain())
	}
	return nothing{}, facts.Seen{Gaps: []facts.Gap{{Source: facts.Settings, What: "the settings", Kind: facts.Unmapped, Because: because, Names: []string{facts.Settings.All()}}}}, nil
}
