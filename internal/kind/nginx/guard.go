package nginx

import (
	"strconv"
	"strings"

	"insegna.example/internal/kind"
)

// guarded tells who is not let in, for somebody who comes from anywhere without a
// password: each of the two kinds of rules counts from the innermost block that
// has any (ngx_http_access_module, ngx_http_auth_basic_module).
func (q *request) guarded(levels [][]*Directive) (step kind.Step, refused bool) {
	var access []*Directive
	var basic, request *Directive
	anyOf := false
	for _, level := range levels {
		var own []*Directive
		q.each(level, func(d *Directive) {
			switch d.Name() {
			case "allow", "deny":
				own = append(own, d)
			case "auth_basic":
				basic = d
			case "auth_request":
				request = d
			case "satisfy":
				anyOf = d.Arg(0) == "any"
			}
		})
		if len(own) > 0 {
			access = own
		}
	}
	denied, asked := deniesAll(access), basic
	if request != nil && request.Arg(0) != "off" {
		asked = request
	}
	needs := asked != nil && asked.Arg(0) != "off"
	switch {
	case anyOf && (!needs || denied == nil && len(access) > 0):
		return step, false
	case denied != nil && !(anyOf && needs):
		return kind.Step{Place: denied.Place(), Handling: kind.Answered, Status: 403}, true
	case needs && asked == request:
		return kind.Step{Place: asked.Place(), Handling: kind.Depends}, true
	case needs:
		return kind.Step{Place: asked.Place(), Handling: kind.Answered, Status: 401}, true
	}
	return step, false
}

// deniesAll gives the rule that keeps out whoever is not named, nil for none.
func deniesAll(access []*Directive) *Directive {
	for _, d := range access {
		if d.Arg(0) == "all" {
			if d.Name() == "deny" {
				return d
			}
			return nil
		}
	}
	return nil
}

// paged leads a status on to the page the site has for it, when that is a
// redirect or a place that answers by itself (error_page).
func (q *request) paged(step kind.Step, levels [][]*Directive) kind.Step {
	if step.Handling != kind.Answered || step.Status < 300 || q.turns >= internalTurns {
		return step
	}
	var page *Directive
	for _, level := range levels {
		var own []*Directive
		q.each(level, func(d *Directive) {
			if d.Name() == "error_page" {
				own = append(own, d)
			}
		})
		if len(own) > 0 { // pages of an outer block count only where there are none
			page = nil
		}
		for _, d := range own {
			for i := range len(d.Args()) - 1 {
				if d.Arg(i) == strconv.Itoa(step.Status) {
					page = d
				}
			}
		}
	}
	if page == nil {
		return step
	}
	q.turns++
	to := page.Arg(len(page.Args()) - 1)
	if strings.HasPrefix(to, "/") || strings.HasPrefix(to, "@") {
		return step // the same status with another text
	}
	status := 302
	for _, w := range page.Args() {
		if code, ok := strings.CutPrefix(w.Text, "="); ok {
			if n, err := strconv.Atoi(code); err == nil && isRedirect(n) {
				status = n
			}
		}
	}
	return kind.Step{Place: page.Place(), Handling: kind.Redirects, Status: status, To: q.expand(to, nil)}
}

// tried is try_files: what is done when none of its files is there. Where the
// path itself is among them, a file put there is served, so nothing else is said.
func (q *request) tried(d *Directive, step kind.Step) kind.Step {
	last := len(d.Args()) - 1
	for i := range last {
		if strings.Contains(d.Arg(i), "$uri") || strings.Contains(d.Arg(i), "$request_filename") {
			return step
		}
	}
	to := d.Arg(last)
	if code, ok := strings.CutPrefix(to, "="); ok {
		if status, err := strconv.Atoi(code); err == nil {
			return kind.Step{Place: d.Place(), Handling: kind.Answered, Status: status}
		}
	}
	if q.turns++; q.turns > internalTurns {
		return kind.Step{Place: d.Place(), Handling: kind.Answered, Status: 500}
	}
	if strings.HasPrefix(to, "@") {
		if named := q.namedLocation(to); named != nil {
			return q.within(q.site, named, [][]*Directive{q.outer, q.site.Block, named.Block})
		}
		return kind.Step{Place: d.Place(), Handling: kind.Answered, Status: 500}
	}
	q.path, _, _ = strings.Cut(q.expand(to, nil), "?")
	return q.ask(q.path)
}

// namedLocation finds a location by its name with the @.
func (q *request) namedLocation(name string) (found *Directive) {
	q.each(q.site.Block, func(d *Directive) {
		if d.Name() == "location" && d.Arg(0) == name {
			found = d
		}
	})
	return found
}
