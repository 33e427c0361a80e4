package binding

import "fmt"

// Face is one window of a binding's plate.
type Face string

// What a window can show.
const (
	Agrees  Face = "agrees"
	Differs Face = "differs"
	Missing Face = "missing"
	Unread  Face = "unread" // never shown as agreeing
	Stale   Face = "stale"  // read longer ago than its schedule allows; never shown as agreeing either
)

// Faces are the three faces of a binding.
type Faces struct{ Wanted, Configured, Served Face }

// Verdict is what the three faces come to.
type Verdict string

// The verdicts, worst first.
const (
	Broken  Verdict = "broken"  // visitors are hurt now
	AtOdds  Verdict = "at-odds" // a face differs, visitors are served
	Unknown Verdict = "unknown" // nothing can be said yet
	Agreed  Verdict = "agreed"  // every face that was read agrees
)

// Judge gives the verdict for faces and whether visitors are hurt.
func Judge(f Faces, hurt bool) Verdict {
	switch {
	case f.Served == Unread && f.Configured == Unread:
		return Unknown
	case hurt:
		return Broken
	case f.Wanted == Differs || f.Configured == Differs || f.Served == Differs || f.Served == Missing ||
		f.Configured == Missing:
		return AtOdds
	}
	return Agreed
}

// BesideSiblings gives the faces of a binding as its siblings put them: one
// that serves an older certificate than they do differs, and so does the
// configuration behind it.
func (f Faces) BesideSiblings(older bool) Faces {
	if older && f.Served == Agrees {
		f.Served = Differs
		if f.Configured == Agrees {
			f.Configured = Differs
		}
	}
	return f
}

// Text is the plate's text alternative.
func (f Faces) Text() string {
	names := [...]string{"wanted", "configured", "served"}
	groups := map[Face][]string{}
	for i, face := range [...]Face{f.Wanted, f.Configured, f.Served} {
		groups[face] = append(groups[face], names[i])
	}
	text := ""
	for _, part := range []struct {
		face         Face
		single, many string
	}{{Agrees, "agrees", "agree"}, {Differs, "differs", "differ"}, {Missing, "is missing", "are missing"},
		{Unread, "not read", "not read"}, {Stale, "not read of late", "not read of late"}} {
		list := groups[part.face]
		if len(list) == 0 {
			continue
		}
		verb := part.single
		if len(list) > 1 {
			verb = part.many
		}
		if text != "" {
			text += ", "
		}
		text += fmt.Sprintf("%s %s", and(list), verb)
	}
	return text
}

// and joins a list as a sentence does. The list must not be empty.
func and(list []string) string {
	switch len(list) {
	case 1:
		return list[0]
	case 2:
		return list[0] + " and " + list[1]
	}
	return list[0] + ", " + and(list[1:])
}
