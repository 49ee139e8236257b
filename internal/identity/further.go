package identity

import (
	"slices"
	"sync"
)

// further are the users besides the one acted as who may be asked to read something of his tree.
var further struct {
	sync.Mutex
	uids []int
}

// Alongside adds a user as whom what lies in a tree may be read where the one acted as may not: whom its web server or its runtime runs as.
// Root is none. It does nothing where the program acts as its caller.
func Alongside(uid int) {
	acting, is := Acting()
	if !is || uid <= 0 || uid == acting {
		return
	}
	further.Lock()
	defer further.Unlock()
	if !slices.Contains(further.uids, uid) {
		further.uids = append(further.uids, uid)
	}
}

// Further are the users who were added since Act.
func Further() []int {
	further.Lock()
	defer further.Unlock()
	return slices.Clone(further.uids)
}

// forgetFurther forgets them.
func forgetFurther() {
	further.Lock()
	defer further.Unlock()
	further.uids = nil
}

// Readers are whom this program reads a tree as, by name: the one acted as, and those alongside; none where it acts as its caller.
func Readers() (names []string) {
	acting, is := Acting()
	if !is {
		return nil
	}
	for _, uid := range append([]int{acting}, Further()...) {
		names = append(names, Name(uid))
	}
	return names
}
