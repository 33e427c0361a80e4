package names_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"insegna.example/internal/core/names"
)

func TestAdviceBeforeAnOrder(t *testing.T) {
	for says, list := range map[string][]string{
		"lantern.example is there and www.lantern.example is not; visitors type both":              {"lantern.example"},
		"www.lantern.example is there and lantern.example is not; visitors type both":              {"www.lantern.example"},
		"*.lantern.example does not cover lantern.example itself; add it when visitors come there": {"*.lantern.example"},
		"*.lantern.example covers one label only, so a.b.lantern.example has to stand beside it": {
			"*.lantern.example", "a.b.lantern.example", "lantern.example"},
		"4 names stand under sea.lantern.example; *.sea.lantern.example would cover them, needs proof by dns, and one key " +
			"for all": {"a.sea.lantern.example", "b.sea.lantern.example", "c.sea.lantern.example", "d.sea.lantern.example"},
	} {
		assert.Contains(t, names.Advise(list), says)
	}
	for _, fine := range [][]string{{"lantern.example", "www.lantern.example"}, {"*.lantern.example", "lantern.example"},
		{"booking.lantern.example"}, {}} {
		assert.Empty(t, names.Advise(fine), "%v", fine)
	}
}
