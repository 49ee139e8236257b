package steps

import (
	"slices"

	"weltaxis/internal/facts"
	"weltaxis/internal/gather"
	"weltaxis/internal/source/files"
)

// Hints are what a look has found out by which another may go.
func Hints(of gather.Results) facts.Hints {
	told, _ := Settings.Of(of)
	found, _ := Live.Of(of)
	at, _ := Public.Of(of)
	_, lie := Files.Of(of)
	_, answers := Answers.Of(of)
	hints := facts.Hints{}
	for hint, all := range map[facts.Hint][]string{
		facts.LoginPathHint: {told.LoginPath}, facts.NoticeHint: {told.Notice}, facts.ClosedHint: told.Closed, facts.PublicHint: {at.Server},
		facts.ServedPathHint: found.Served, facts.InnerPathHint: found.Inner, facts.SpellingHint: found.Spellings, facts.CookieHint: found.Cookies,
		facts.ExposedHint: files.Exposed(lie.Classes),
	} {
		if len(all) > 0 && all[0] != "" {
			hints[hint] = all
		}
	}
	if len(answers.Answers) > 0 {
		if file, known := answers.Answers[0].Field("file"); known && file.Text() != "" {
			hints[facts.ProgramHint] = []string{file.Text()}
		}
	}
	for _, part := range slices.Concat(told.Parts, found.Parts) {
		hints[facts.InstalledHint] = append(hints[facts.InstalledHint], part.Name)
	}
	return hints
}

// FolderFrom is what an earlier look has found out of the folder that is served.
func FolderFrom(hints facts.Hints) Folder {
	return Folder{Server: hints.First(facts.PublicHint), Paths: hints[facts.ServedPathHint]}
}
