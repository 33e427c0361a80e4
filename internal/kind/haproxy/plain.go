package haproxy

import "regexp"

// plain are directives whose names speak of secrets and whose values are none: the
// name of a cookie visitors are told apart by.
var plain = regexp.MustCompile(`^(cookie|capture)$`)
