package haproxy

import (
	"path"

	"insegna.example/internal/kind"
)

// running implements kind.Kind.Running.
func running(words []string) *kind.Running {
	if len(words) == 0 || path.Base(words[0]) != "haproxy" {
		return nil
	}
	main := kind.Flag(words[1:], "-f")
	if !path.IsAbs(main) {
		return nil
	}
	out := &kind.Running{Main: path.Clean(main)}
	if out.Main != usualMain { // the usual command would reload another one
		out.Commands = map[string]string{reloadKey: "false"}
		out.Untold = "the command that reloads it, for which " + reloadKey + " says false until you write it"
	}
	return out
}
