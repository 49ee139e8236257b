package cli

import (
	"testing"

	"weltaxis/internal/servertest"
)

func TestMain(m *testing.M) { servertest.InMemory(m) }
