package httpd

import "regexp"

// plain are directives whose values only sound like secrets: paths and words.
var plain = regexp.MustCompile(`(?i)^(SSLCertificate(Key|Chain)?File|SSLSessionTicketKeyFile|SSLPassPhraseDialog|SSLProxyMachineCertificate\w*|` +
	`SSLStapling\w*|Auth(User|Group|Basic|Digest|Form|n|Name|Type)\w*|KeepAlive\w*|MaxKeepAliveRequests|MDPrivateKeys|Session\w*)$`)
