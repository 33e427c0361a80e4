package cli

import "github.com/spf13/cobra"

// among are the flags by which lists are narrowed to what belongs somewhere.
type among struct{ groups, owners, tags []string }

// flags adds them.
func (m *among) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringSliceVar(&m.groups, "group", nil, "only about hosts of these groups")
	f.StringSliceVar(&m.owners, "owner", nil, "only about what is theirs")
	f.StringSliceVar(&m.tags, "tag", nil, "only about hosts with one of these tags")
}
