package binding_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"insegna.example/internal/core/binding"
)

const (
	agrees  = binding.Agrees
	differs = binding.Differs
	missing = binding.Missing
	unread  = binding.Unread
)

// TestVerdictOfEveryCombination holds the verdict against its own words for
// every combination of faces: nothing read is unknown, also for a binding that
// was hurt before; a face that was not read never makes two others disagree.
func TestVerdictOfEveryCombination(t *testing.T) {
	all := []binding.Face{agrees, differs, missing, unread}
	for _, wanted := range all {
		for _, configured := range all {
			for _, served := range all {
				for _, hurt := range []bool{false, true} {
					f := binding.Faces{Wanted: wanted, Configured: configured, Served: served}
					at := wanted == differs
					for _, face := range []binding.Face{configured, served} {
						at = at || face == differs || face == missing
					}
					want := binding.Agreed
					switch {
					case configured == unread && served == unread:
						want = binding.Unknown
					case hurt:
						want = binding.Broken
					case at:
						want = binding.AtOdds
					}
					assert.Equal(t, want, binding.Judge(f, hurt), "%+v hurt %v", f, hurt)
				}
			}
		}
	}
}

// TestASiblingThatServesANewerOne changes what agreed, and nothing else.
func TestASiblingThatServesANewerOne(t *testing.T) {
	for _, c := range []struct {
		before binding.Faces
		older  bool
		after  binding.Faces
	}{
		{binding.Faces{Wanted: agrees, Configured: agrees, Served: agrees}, true,
			binding.Faces{Wanted: agrees, Configured: differs, Served: differs}},
		{binding.Faces{Wanted: agrees, Configured: unread, Served: agrees}, true,
			binding.Faces{Wanted: agrees, Configured: unread, Served: differs}},
		{binding.Faces{Wanted: agrees, Configured: missing, Served: agrees}, true,
			binding.Faces{Wanted: agrees, Configured: missing, Served: differs}},
		{binding.Faces{Wanted: agrees, Configured: agrees, Served: missing}, true,
			binding.Faces{Wanted: agrees, Configured: agrees, Served: missing}},
		{binding.Faces{Wanted: agrees, Configured: agrees, Served: agrees}, false,
			binding.Faces{Wanted: agrees, Configured: agrees, Served: agrees}},
	} {
		assert.Equal(t, c.after, c.before.BesideSiblings(c.older))
	}
}

// TestFacesInWords is what screen readers, CSV and people without colour get.
func TestFacesInWords(t *testing.T) {
	for words, f := range map[string]binding.Faces{
		"wanted, configured and served agree":                  {Wanted: agrees, Configured: agrees, Served: agrees},
		"wanted and served agree, configured not read":         {Wanted: agrees, Configured: unread, Served: agrees},
		"wanted agrees, served differs, configured is missing": {Wanted: agrees, Configured: missing, Served: differs},
		"wanted agrees, configured and served are missing":     {Wanted: agrees, Configured: missing, Served: missing},
		"wanted agrees, configured and served not read":        {Wanted: agrees, Configured: unread, Served: unread},
	} {
		assert.Equal(t, words, f.Text())
	}
}
