package estate

import (
	"slices"
	"strings"
)

// Kind is what an estate file may say of one kind of server.
type Kind struct {
	Name     string    // as the file calls it
	Reached  bool      // its configuration can be got at, so that a server may have reach
	Main     string    // the usual main file of its configuration
	Commands []Command // keys of reach with a usual command each
}

// Command is one command a kind of server is handled with; a key of reach in
// the estate file.
type Command struct {
	Key     string                   // in the estate file
	Meaning string                   // for the schema
	Usual   func(main string) string // for a main file
}

// Kinds are the kinds of server that may be declared; the last one stands for
// a server whose kind is not said.
type Kinds []Kind

// Names lists them as an estate file calls them.
func (ks Kinds) Names() []string {
	out := make([]string, len(ks))
	for i, k := range ks {
		out[i] = k.Name
	}
	return out
}

// unsaid is the kind of a server whose kind is not said.
func (ks Kinds) unsaid() string {
	if len(ks) == 0 {
		return ""
	}
	return ks[len(ks)-1].Name
}

// of finds a kind by its name; nil for one this program does not know.
func (ks Kinds) of(name string) Kind {
	if i := slices.IndexFunc(ks, func(k Kind) bool { return k.Name == name }); i >= 0 {
		return ks[i]
	}
	return Kind{Name: name}
}

// reached lists the kinds that may have reach, for a sentence.
func (ks Kinds) reached() string {
	var out []string
	for _, k := range ks {
		if k.Reached {
			out = append(out, k.Name)
		}
	}
	return strings.Join(out, ", ")
}

// commands lists the commands of all kinds, each key once.
func (ks Kinds) commands() []Command {
	var out []Command
	for _, k := range ks {
		for _, c := range k.Commands {
			if !slices.ContainsFunc(out, func(o Command) bool { return o.Key == c.Key }) {
				out = append(out, c)
			}
		}
	}
	return out
}

// takes says whether a kind is handled with a command.
func (k *Kind) takes(key string) bool {
	return slices.ContainsFunc(k.Commands, func(c Command) bool { return c.Key == key })
}
