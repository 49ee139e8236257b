package demo

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"time"
)

// A memory is a keeper that reads again only when one of its files has changed: a site is asked for many pages between two changes.
type memory struct {
	keeper
	files func() []string

	mu    sync.Mutex
	stamp string // of the files when they were last read
	told  map[string]string
	all   []entry
}

// remembering gives a keeper a memory; what lies in a database on a server is read anew each time.
func remembering(k keeper, database *databaseServer, files func() []string) keeper {
	if database != nil {
		return k
	}
	return &memory{keeper: k, files: files}
}

// now is a stamp of the files; "" when one changed just now, since it may change again within the grain of the clock.
func (m *memory) now() string {
	var stamp strings.Builder
	for _, name := range m.files() {
		stat, err := os.Stat(name)
		if err != nil || time.Since(stat.ModTime()) < time.Second {
			return ""
		}
		fmt.Fprint(&stamp, name, " ", stat.ModTime().UnixNano(), " ", stat.Size(), ";")
	}
	return stamp.String()
}

func (m *memory) read(ctx context.Context) (map[string]string, []entry, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if stamp := m.now(); stamp == "" || stamp != m.stamp {
		told, err := m.keeper.options(ctx)
		if err != nil {
			return nil, nil, err
		}
		all, err := m.keeper.entries(ctx)
		if err != nil {
			return nil, nil, err
		}
		m.stamp, m.told, m.all = stamp, told, all
	}
	return maps.Clone(m.told), slices.Clone(m.all), nil
}

func (m *memory) options(ctx context.Context) (map[string]string, error) {
	told, _, err := m.read(ctx)
	return told, err
}

func (m *memory) entries(ctx context.Context) ([]entry, error) {
	_, all, err := m.read(ctx)
	return all, err
}
