package kind_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"insegna.example/internal/kind"
)

// TestWhoseKeysAServerReads tells from the keys that sites name and that are closed to others:
// root's where there are any, and nobody's where they are of several.
func TestWhoseKeysAServerReads(t *testing.T) {
	key := func(uid, gid int, mode uint32, folder bool) *kind.Material {
		return &kind.Material{Public: "x", Mode: mode, Owner: &kind.Owner{UID: uid, GID: gid, Folder: folder}}
	}
	reading := func(list ...*kind.Material) *kind.Reading {
		r := &kind.Reading{Material: map[string]*kind.Material{}}
		for i, m := range list {
			name := string(rune('a' + i))
			r.Material[name] = m
			r.Sites = append(r.Sites, kind.Site{Pairs: []kind.Pair{{Key: name}}})
		}
		return r
	}
	root, shared := key(0, 0, 0o600, false), key(0, 7, 0o640, false)
	for name, c := range map[string]struct {
		keys []*kind.Material
		want string
	}{
		"root's":                        {[]*kind.Material{root, key(9, 9, 0o600, false)}, "0:0"},
		"root's, whichever comes first": {[]*kind.Material{key(9, 9, 0o600, false), key(8, 8, 0o600, false), root}, "0:0"},
		"root's of two groups":          {[]*kind.Material{root, shared}, ""},
		"another user's":                {[]*kind.Material{key(9, 9, 0o640, false), key(9, 9, 0o600, false)}, "9:9"},
		"two users'":                    {[]*kind.Material{key(9, 9, 0o640, false), key(8, 8, 0o600, false)}, ""},
		"not one in his own folder":     {[]*kind.Material{key(9, 9, 0o600, true), key(8, 8, 0o600, false)}, "8:8"},
		"not an open one":               {[]*kind.Material{key(9, 9, 0o604, false), key(8, 8, 0o600, false)}, "8:8"},
		"no other":                      {[]*kind.Material{key(9, 9, 0o644, false)}, ""},
	} {
		got := ""
		if o := reading(c.keys...).KeyOwner(); o != nil {
			got = o.String()
		}
		assert.Equal(t, c.want, got, name)
	}
	r := reading(root, key(9, 9, 0o600, false), key(9, 9, 0o600, true))
	assert.NotNil(t, r.Foreign("b"))
	assert.Nil(t, r.Foreign("c"), "it lies in a folder of his own")
	assert.Nil(t, r.Foreign("a"))
	assert.Nil(t, r.Foreign("none"))
}
