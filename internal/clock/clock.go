// Package clock is the time by which everything is judged, kept and promised: one for a run, told to whoever needs it. How long something takes is measured by the machine's own clock,
// and has nothing to do with it.
package clock

import (
	"fmt"
	"os"
	"time"
)

// A Clock tells the time.
type Clock func() time.Time

// Variable is the variable of the environment that has the program take a moment for now: for tests, and for whoever sets two runs side by side.
const Variable = "WELTAXIS_NOW"

// Of is the clock that a text asks for: a moment as RFC 3339 writes it, which stands still; "" for the machine's own.
func Of(text string) (Clock, error) {
	if text == "" {
		return time.Now, nil
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return nil, fmt.Errorf("%s: %q is no moment; write it as 2026-11-23T10:00:00Z, or leave it out", Variable, text)
	}
	return At(at), nil
}

// At is a clock that stands still.
func At(at time.Time) Clock { return func() time.Time { return at } }

// FromEnvironment is the clock that the environment asks for.
func FromEnvironment() (Clock, error) { return Of(os.Getenv(Variable)) }
