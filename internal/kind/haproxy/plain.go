package haproxy

import "regexp"

// plain are directives whose values are no secrets though they look like some.
var plain = regexp.MustCompile(`^(crt|crt-list|crt-base|key-base|ssl-load-extra-files|tune\.ssl\..*|tls-tickets|no-tls-tickets)$`)
