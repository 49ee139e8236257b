package baseline

import (
	"strings"
	"time"

	"cel.dev/cel-go/cel"

	"weltaxis/internal/facts"
	"weltaxis/internal/strict"
)

// A FollowUp is what a rule wants somebody to come back to, whether it holds or not: on a day that something says, or so many days after
// it was first seen.
type FollowUp struct {
	When  strict.Expr `yaml:"when"`
	On    strict.Expr `yaml:"on"`    // gives a timestamp
	After int         `yaml:"after"` // days
	What  string      `yaml:"what"`  // takes values in braces
}

// checkFollowUp holds one against what it needs.
func (r *Rule) checkFollowUp() error {
	f := r.FollowUp
	switch {
	case f == nil:
		return nil
	case f.When.Source == "" || f.What == "":
		return r.errorf("follow_up has a condition (when) and says what is to be done (what)")
	case (f.On.Source == "") == (f.After == 0):
		return r.errorf("follow_up has a day (on), or a number of days after it was first seen (after)")
	case f.After < 0:
		return r.errorf("follow_up: after is a number of days")
	}
	return nil
}

// compileFollowUp compiles the conditions of one.
func (b *Baseline) compileFollowUp(r *Rule, env *cel.Env, c *code) (err error) {
	f := r.FollowUp
	if f == nil {
		return nil
	}
	if c.again, err = b.expression(r, env, f.When, "follow_up", cel.BoolType); err != nil || f.On.Source == "" {
		return err
	}
	c.on, err = b.expression(r, env, f.On, "follow_up", cel.TimestampType)
	return err
}

// followUps are what the rule wants somebody to come back to. What could not be seen asks for nothing.
func (j *judging) followUps() (all []facts.FollowUp) {
	if j.rule.FollowUp == nil {
		return nil
	}
	if j.rule.list == "" {
		return j.followUp(nil)
	}
	items, seen := j.snapshot.Items(j.rule.list)
	if !seen {
		return nil
	}
	began := time.Now()
	for item := range items {
		if !j.rule.builtIn && time.Since(began) > ruleTime {
			break
		}
		j.item = item
		all = append(all, j.followUp(item)...)
	}
	return all
}

func (j *judging) followUp(item facts.Item) []facts.FollowUp {
	wanted, known, err := j.truth(j.rule.code.again)
	if err != nil || !known || !wanted {
		return nil
	}
	f := facts.FollowUp{Rule: j.rule.ID, After: j.rule.FollowUp.After, On: facts.DayOf(j.snapshot.Taken.AddDate(0, 0, j.rule.FollowUp.After))}
	identity := SiteSubject
	if item != nil {
		f.Subject, identity = item.Subject(), item.Identity()
	}
	f.UID = facts.Fingerprint("follow-up "+j.rule.ID, identity)
	if j.rule.code.on != nil {
		value, err := j.evaluate(j.rule.code.on)
		if err != nil {
			return nil
		}
		at, is := value.Value().(time.Time)
		if !is {
			return nil
		}
		f.On = facts.DayOf(at)
	}
	if f.What, err = j.text(j.rule.FollowUp.What); err != nil {
		return nil
	}
	f.What = strings.TrimSpace(f.What)
	return []facts.FollowUp{f}
}
