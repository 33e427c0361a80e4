package check

import "slices"

// Code names a rule; it is stable, and what records, filters and people refer
// to.
type Code string

// The codes. Rules says what each means.
const (
	NothingListens          Code = "nothing-listens"
	NoAnswer                Code = "no-answer"
	NoRoute                 Code = "no-route"
	ConnectionReset         Code = "connection-reset"
	ConnectionClosed        Code = "connection-closed"
	Silent                  Code = "silent"
	PlainHTTP               Code = "plain-http"
	NotTLS                  Code = "not-tls"
	TLSRefused              Code = "tls-refused"
	TLSMalformed            Code = "tls-malformed"
	TLSTooLarge             Code = "tls-too-large"
	TLSOld                  Code = "tls-old"
	SuiteWeak               Code = "suite-weak"
	NameNotCovered          Code = "name-not-covered"
	OtherSiteAnswers        Code = "other-site-answers"
	Expired                 Code = "expired"
	NotYetValid             Code = "not-yet-valid"
	EndsSoon                Code = "ends-soon"
	LifetimeOverLimit       Code = "lifetime-over-limit"
	SelfSigned              Code = "self-signed"
	ChainUntrusted          Code = "chain-untrusted"
	IssuerUnknown           Code = "issuer-unknown"
	IssuerOther             Code = "issuer-other"
	IssuerNoCA              Code = "issuer-no-ca"
	IssuerMayNotSign        Code = "issuer-may-not-sign"
	PathLength              Code = "path-length"
	NameConstraint          Code = "name-constraint"
	NotForServers           Code = "not-for-servers"
	SignatureWeak           Code = "signature-weak"
	CriticalExtension       Code = "critical-extension"
	PolicyMissing           Code = "policy-missing"
	PathTooLong             Code = "path-too-long"
	ChainIncomplete         Code = "chain-incomplete"
	ChainEnded              Code = "chain-ended"
	ChainDisordered         Code = "chain-disordered"
	ChainStray              Code = "chain-stray"
	ChainDuplicate          Code = "chain-duplicate"
	ChainRootSent           Code = "chain-root-sent"
	ChainUnreadable         Code = "chain-unreadable"
	ChainTooLong            Code = "chain-too-long"
	KeyWeak                 Code = "key-weak"
	KeyUsageWrong           Code = "key-usage-wrong"
	SerialBad               Code = "serial-bad"
	FormBroken              Code = "form-broken"
	StapleMissing           Code = "staple-missing"
	OtherIssuer             Code = "other-issuer"
	OtherCertificate        Code = "other-certificate"
	NotRenewed              Code = "not-renewed"
	DiffersFromSiblings     Code = "differs-from-siblings"
	ReplacementLate         Code = "replacement-late"
	NotConfigured           Code = "not-configured"
	NotReloaded             Code = "not-reloaded"
	SiteNotEnabled          Code = "site-not-enabled"
	WrongFile               Code = "wrong-file"
	ServedFromElsewhere     Code = "served-from-elsewhere"
	CertificateFileBad      Code = "certificate-file-bad"
	KeyFileBad              Code = "key-file-bad"
	KeyOfAnotherCertificate Code = "key-of-another-certificate"
	ChainMissingOnDisk      Code = "chain-missing-on-disk"
	RedirectMissing         Code = "redirect-missing"
	RedirectTemporary       Code = "redirect-temporary"
	RedirectLoses           Code = "redirect-loses"
	ChallengeBlocked        Code = "challenge-blocked"
	ConfigurationRefused    Code = "configuration-refused"
	TestNotRun              Code = "test-not-run"
	ConfigurationUnread     Code = "configuration-unread"
	ConfigurationSuspect    Code = "configuration-suspect"
	KeyOpen                 Code = "key-open"
	LeftOver                Code = "left-over"
	LastHopFails            Code = "last-hop-fails"
	LastHopUnwatched        Code = "last-hop-unwatched"
	LastHopUnchecked        Code = "last-hop-unchecked"
	LastHopPlain            Code = "last-hop-plain"
	NotInEstate             Code = "not-in-estate"
	HostKeyChanged          Code = "host-key-changed"
	HostKeyUnknown          Code = "host-key-unknown"
	LoginRefused            Code = "login-refused"
	ConnectionLost          Code = "connection-lost"
	NotReached              Code = "not-reached"
	NoticeUndelivered       Code = "notice-undelivered"
	RequestWaits            Code = "request-waits"
)

// Speaks is what a rule speaks of: who can open and close its findings.
type Speaks string

// What rules speak of.
const (
	OfServed     Speaks = "served"     // what a look brings back
	OfConfigured Speaks = "configured" // what a server's configuration says of one binding: only a reading can tell
	OfSiblings   Speaks = "siblings"   // what the endpoints of one host serve, compared at the end of a survey
	OfRhythm     Speaks = "rhythm"     // how the certificates of one endpoint followed each other
	OfServer     Speaks = "server"     // a server's configuration as a whole
	OfReach      Speaks = "reach"      // the way to a server: nothing else is known of it then
	OfService    Speaks = "service"    // the service's own messages: about no server
)

// Trait is what else a finding implies. Traits are combined with |.
type Trait uint

// The traits.
const (
	// AboutCertificate marks what is said of the very certificate served; it goes
	// with its cause when another one should have been served.
	AboutCertificate Trait = 1 << iota
	// ServedDiffers marks what makes the served face differ.
	ServedDiffers
	// NotItsOwn marks a binding that serves something that is not meant for it, so
	// that it is not compared with its siblings.
	NotItsOwn
	// AtNextReload marks what lies on a server's disk and is not in use yet: any
	// reload makes it real.
	AtNextReload
	// Uncovered marks a host that no certificate served there is for.
	Uncovered
	// AtEndpoint marks what befell before a certificate came: what is true of one
	// name is as a rule true of all names at the endpoint, see Together.
	AtEndpoint
	// OfOneCertificate marks what is true of a certificate whatever host shows it.
	OfOneCertificate
	// OfOneIssuer marks what several certificates have from one of their issuers; the
	// cause names it.
	OfOneIssuer
)

// Step is a step of a visit that findings belong to; steps are combined with |.
type Step uint

// The steps of a visit.
const (
	StepTLS Step = 1 << iota
	StepLeaf
	StepList
	StepTrust
)

// Rule is one row of the catalogue: all that is fixed about a code.
type Rule struct {
	Code     Code     // stable
	Severity Severity // the usual one; a rule may give another where it says so
	Meaning  string   // one line for the catalogue
	Speaks   Speaks   // whose findings a look or a reading may close
	Traits   Trait    // what else follows from it
	Steps    Step     // of a visit
	Explains []Code   // findings it is the cause of, and takes the place of
	Mends    Means    // how it mends itself; "" when a person has to
	Person   string   // why; "" where it mends itself

	ExplainsCertificate bool // and all those about the certificate served
}

// Why a person has to, where several rules have the same reason.
const (
	lookedAt   = "what answers there has to be looked at where it runs"
	betweenTwo = "both servers, and the trust between them, are for a person to settle; the finding names the lines"
)

// Rules is the catalogue, by family: the one table every other list of codes is
// derived from.
var Rules = []Rule{
	{Code: NothingListens, Severity: Broken, Speaks: OfServed, Mends: ByReload, Traits: AtEndpoint,
		Meaning: "the machine refuses connections on this port"},
	{Code: NoAnswer, Severity: Broken, Speaks: OfServed, Person: lookedAt, Traits: AtEndpoint,
		Meaning: "connections to this address and port are neither accepted nor refused"},
	{Code: NoRoute, Severity: Broken, Speaks: OfServed, Person: "the way there is the network's", Traits: AtEndpoint,
		Meaning: "the network has no way to this address"},
	{Code: ConnectionReset, Severity: Broken, Speaks: OfServed, Person: lookedAt, Traits: AtEndpoint,
		Meaning: "the connection is torn down before a certificate comes"},
	{Code: ConnectionClosed, Severity: Broken, Speaks: OfServed, Person: lookedAt, Traits: AtEndpoint,
		Meaning: "the connection is ended before a certificate comes"},
	{Code: Silent, Severity: Broken, Speaks: OfServed, Person: lookedAt, Traits: AtEndpoint,
		Meaning: "connections are accepted, then nothing or too little comes"},
	{Code: PlainHTTP, Severity: Broken, Speaks: OfServed, Mends: ByRenewal, Traits: AtEndpoint,
		Meaning: "the port speaks http where TLS is expected"},
	{Code: NotTLS, Severity: Broken, Speaks: OfServed, Person: lookedAt, Traits: AtEndpoint,
		Meaning: "the port speaks something else than TLS"},
	{Code: TLSRefused, Severity: Broken, Speaks: OfServed, Person: lookedAt,
		Meaning: "the server ends the handshake with an alert"},
	{Code: TLSMalformed, Severity: Broken, Speaks: OfServed, Person: lookedAt,
		Meaning: "the handshake or a certificate in it breaks the rules"},
	{Code: TLSTooLarge, Severity: Broken, Speaks: OfServed, Person: lookedAt,
		Meaning: "more certificate material is sent than any client takes"},
	{Code: TLSOld, Severity: Broken, Speaks: OfServed, Mends: BySettings, Steps: StepTLS,
		Meaning: "only TLS 1.1 or older is spoken (RFC 8996)"},
	{Code: SuiteWeak, Severity: Weak, Speaks: OfServed, Mends: BySettings, Steps: StepTLS,
		Meaning: "the server chose a cipher suite that is known to be weak (RFC 9325)"},
	{Code: NameNotCovered, Severity: Broken, Speaks: OfServed,
		Mends: ByRenewal, Traits: AboutCertificate | NotItsOwn | Uncovered,
		Steps:   StepLeaf,
		Meaning: "the certificate does not cover the host name (RFC 9525)"},
	{Code: OtherSiteAnswers, Severity: Broken, Speaks: OfServed,
		Mends: ByRenewal, Traits: AboutCertificate | NotItsOwn | Uncovered,
		Steps:               StepLeaf,
		Meaning:             "the certificate served is the endpoint's default, made for another site",
		ExplainsCertificate: true},
	{Code: Expired, Severity: Broken, Speaks: OfServed,
		Mends: ByRenewal, Traits: AboutCertificate | OfOneCertificate, Steps: StepLeaf | StepTrust,
		Meaning: "the certificate has ended"},
	{Code: NotYetValid, Severity: Broken, Speaks: OfServed,
		Person: "its time comes, or a clock is wrong, which is seen at the machine", Traits: AboutCertificate | OfOneCertificate, Steps: StepLeaf | StepTrust,
		Meaning: "the certificate has not begun"},
	{Code: EndsSoon, Severity: Due, Speaks: OfServed, Mends: ByRenewal, Traits: AboutCertificate | OfOneCertificate, Steps: StepLeaf,
		Meaning: "the certificate ends soon and is still the one served"},
	{Code: LifetimeOverLimit, Severity: Weak, Speaks: OfServed,
		Mends: ByRenewal, Traits: AboutCertificate | OfOneCertificate, Steps: StepLeaf,
		Meaning: "a public CA's certificate is valid longer than the limit of its issue date allows"},
	{Code: SelfSigned, Severity: Broken, Speaks: OfServed,
		Mends: ByRenewal, Traits: AboutCertificate | OfOneCertificate, Steps: StepTrust,
		Meaning: "the certificate signed itself and is no anchor of an audience"},
	{Code: ChainUntrusted, Severity: Broken, Speaks: OfServed,
		Mends: ByRenewal, Traits: AboutCertificate, Steps: StepTrust,
		Meaning: "the path ends at a root that is no anchor of an audience"},
	{Code: IssuerUnknown, Severity: Broken, Speaks: OfServed,
		Mends: ByList, Traits: AboutCertificate | OfOneIssuer, Steps: StepTrust,
		Meaning: "the certificate of the issuer was neither sent nor declared, and is no anchor of an audience"},
	{Code: IssuerOther, Severity: Broken, Speaks: OfServed, Mends: ByList, Traits: AboutCertificate, Steps: StepTrust,
		Meaning: "a certificate of the issuer's name is there, and another key made the signature (RFC 5280 section 6.1.3)"},
	{Code: IssuerNoCA, Severity: Broken, Speaks: OfServed,
		Mends: ByRenewal, Traits: AboutCertificate, Steps: StepTrust,
		Meaning: "a certificate stands as an issuer and is no CA (RFC 5280 section 4.2.1.9)"},
	{Code: IssuerMayNotSign, Severity: Broken, Speaks: OfServed,
		Mends: ByRenewal, Traits: AboutCertificate, Steps: StepTrust,
		Meaning: "the key of an issuer may not sign certificates (RFC 5280 section 4.2.1.3)"},
	{Code: PathLength, Severity: Broken, Speaks: OfServed,
		Mends: ByRenewal, Traits: AboutCertificate, Steps: StepTrust,
		Meaning: "a CA allows fewer intermediates below it than there are (RFC 5280 section 4.2.1.9)"},
	{Code: NameConstraint, Severity: Broken, Speaks: OfServed,
		Mends: ByRenewal, Traits: AboutCertificate, Steps: StepTrust,
		Meaning: "a CA on the path may not issue for a name in the certificate (RFC 5280 section 4.2.1.10)"},
	{Code: NotForServers, Severity: Broken, Speaks: OfServed,
		Mends: ByRenewal, Traits: AboutCertificate, Steps: StepTrust,
		Meaning: "a certificate on the path is not allowed for TLS servers (RFC 5280 section 4.2.1.12)"},
	{Code: SignatureWeak, Severity: Broken, Speaks: OfServed,
		Mends: ByRenewal, Traits: AboutCertificate, Steps: StepTrust,
		Meaning: "a certificate on the path is signed with a hash that clients no longer accept"},
	{Code: CriticalExtension, Severity: Broken, Speaks: OfServed,
		Mends: ByRenewal, Traits: AboutCertificate, Steps: StepTrust,
		Meaning: "a certificate on the path has a critical extension nobody understands (RFC 5280 section 4.2)"},
	{Code: PolicyMissing, Severity: Broken, Speaks: OfServed,
		Mends: ByRenewal, Traits: AboutCertificate, Steps: StepTrust,
		Meaning: "the certificate policies of the path do not allow it (RFC 5280 section 6.1.3)"},
	{Code: PathTooLong, Severity: Broken, Speaks: OfServed, Mends: ByList, Traits: AboutCertificate, Steps: StepTrust,
		Meaning: "the path is longer, or the material more tangled, than any client follows"},
	{Code: ChainIncomplete, Severity: Broken, Speaks: OfServed,
		Mends: ByList, Traits: AboutCertificate | OfOneIssuer, Steps: StepList,
		Meaning: "an intermediate certificate is not sent"},
	{Code: ChainEnded, Severity: Broken, Speaks: OfServed, Mends: ByList, Traits: AboutCertificate | OfOneIssuer, Steps: StepTrust,
		Meaning: "an intermediate or root on every path is out of date"},
	{Code: ChainDisordered, Severity: Weak, Speaks: OfServed,
		Mends: ByList, Traits: AboutCertificate, Steps: StepList,
		Meaning: "certificates are sent before the one they certify (RFC 8446)"},
	{Code: ChainStray, Severity: Note, Speaks: OfServed, Mends: ByList, Traits: AboutCertificate, Steps: StepList,
		Meaning: "certificates are sent that belong to no path"},
	{Code: ChainDuplicate, Severity: Note, Speaks: OfServed, Mends: ByList, Traits: AboutCertificate, Steps: StepList,
		Meaning: "a certificate is sent more than once"},
	{Code: ChainRootSent, Severity: Note, Speaks: OfServed, Mends: ByList, Traits: AboutCertificate, Steps: StepList,
		Meaning: "the root is sent; every client has its own copy"},
	{Code: ChainUnreadable, Severity: Weak, Speaks: OfServed,
		Mends: ByList, Traits: AboutCertificate, Steps: StepList,
		Meaning: "something is sent among the certificates that is none"},
	{Code: ChainTooLong, Severity: Weak, Speaks: OfServed, Mends: ByList, Traits: AboutCertificate, Steps: StepList,
		Meaning: "more certificates are sent than are judged"},
	{Code: KeyWeak, Severity: Weak, Speaks: OfServed, Mends: ByRenewal, Traits: AboutCertificate | OfOneCertificate, Steps: StepLeaf,
		Meaning: "the public key is too small, or of a kind clients do not take"},
	{Code: KeyUsageWrong, Severity: Broken, Speaks: OfServed,
		Mends: ByRenewal, Traits: AboutCertificate, Steps: StepLeaf,
		Meaning: "the key may not sign a TLS handshake (RFC 5280 section 4.2.1.3)"},
	{Code: SerialBad, Severity: Weak, Speaks: OfServed, Mends: ByRenewal, Traits: AboutCertificate | OfOneCertificate, Steps: StepLeaf,
		Meaning: "the serial number is not positive or longer than 20 octets (RFC 5280)"},
	{Code: FormBroken, Severity: Weak, Speaks: OfServed, Mends: ByRenewal, Traits: AboutCertificate | OfOneCertificate, Steps: StepLeaf,
		Meaning: "the certificate breaks rules of its form, and strict clients refuse it (RFC 5280 section 4.1)"},
	{Code: StapleMissing, Severity: Broken, Speaks: OfServed,
		Mends: ByStapling, Traits: AboutCertificate, Steps: StepLeaf,
		Meaning: "the certificate demands a stapled OCSP response and none is sent, or an error (RFC 7633)"},
	{Code: OtherIssuer, Severity: Weak, Speaks: OfServed,
		Mends: ByRenewal, Traits: AboutCertificate | ServedDiffers, Steps: StepLeaf,
		Meaning: "the certificate comes from another CA than the estate wants"},
	{Code: OtherCertificate, Severity: Weak, Speaks: OfServed,
		Mends: ByRenewal, Traits: AboutCertificate | ServedDiffers, Steps: StepLeaf,
		Meaning: "another certificate is served than the estate wants"},
	{Code: NotRenewed, Severity: Weak, Speaks: OfServed,
		Person: "whether it is still wanted is for a person to say: give it a mandate, or let it end", Traits: AboutCertificate, Steps: StepLeaf,
		Meaning: "the mandate that renewed the certificate was removed: nobody renews it"},
	{Code: DiffersFromSiblings, Severity: Due, Speaks: OfSiblings, Mends: BySibling, Traits: ServedDiffers,
		Meaning: "one endpoint of a host serves an older certificate than the others; a note until that one is due"},
	{Code: ReplacementLate, Severity: Due, Speaks: OfRhythm, Mends: ByRenewal,
		Meaning: "the certificate is usually replaced earlier before its end, and no other has come"},
	{Code: NotConfigured, Severity: Weak, Speaks: OfConfigured,
		Person:  "which program owns the port is seen at the machine",
		Meaning: "an endpoint answers that the server's configuration does not open"},
	{Code: NotReloaded, Severity: Due, Speaks: OfConfigured,
		Mends: ByReload, Traits: ServedDiffers | NotItsOwn | AtNextReload,
		Meaning: "the certificate or listener on disk is not what the running server uses; broken when visitors " +
			"are hurt by that",
		ExplainsCertificate: true},
	{Code: SiteNotEnabled, Severity: Broken, Speaks: OfConfigured, Mends: BySwitch, Traits: NotItsOwn,
		Meaning:  "the host's site is written and not switched on",
		Explains: []Code{NothingListens}, ExplainsCertificate: true},
	{Code: WrongFile, Severity: Due, Speaks: OfConfigured, Mends: ByName, Traits: ServedDiffers | NotItsOwn,
		Meaning:  "the site names an older certificate than the one that lies beside it",
		Explains: []Code{NameNotCovered, Expired, EndsSoon, SelfSigned, OtherIssuer, OtherCertificate}},
	{Code: ServedFromElsewhere, Severity: Weak, Speaks: OfConfigured,
		Person: "what answers in the server's place is seen at the machine", Traits: ServedDiffers,
		Meaning: "what is served is not what the configuration names, and the server has loaded that"},
	{Code: CertificateFileBad, Severity: Due, Speaks: OfConfigured, Mends: ByName,
		Meaning: "a certificate file the configuration names cannot be used"},
	{Code: KeyFileBad, Severity: Due, Speaks: OfConfigured, Mends: ByKey,
		Meaning: "a key file the configuration names cannot be used"},
	{Code: KeyOfAnotherCertificate, Severity: Due, Speaks: OfConfigured, Mends: ByKey, Traits: AtNextReload,
		Meaning: "certificate and key on disk do not belong together"},
	{Code: ChainMissingOnDisk, Severity: Due, Speaks: OfConfigured, Mends: ByList, Traits: AtNextReload,
		Meaning: "the certificate file has lost an intermediate the running server still sends"},
	{Code: RedirectMissing, Severity: Weak, Speaks: OfConfigured, Mends: ByLead,
		Meaning: "the host has TLS, and visitors of plain http are not led there"},
	{Code: RedirectTemporary, Severity: Note, Speaks: OfConfigured, Mends: ByLead,
		Meaning: "visitors of plain http are led to https with a temporary redirect (RFC 9110 section 15.4)"},
	{Code: RedirectLoses, Severity: Weak, Speaks: OfConfigured, Mends: ByLead,
		Meaning: "the redirect from plain http loses host, path or query"},
	{Code: ChallengeBlocked, Severity: Due, Speaks: OfConfigured, Mends: ByPath,
		Meaning: "a mandate is proved over plain http, and the server does not serve what its CA asks for (RFC 8555 section 8.3)"},
	{Code: LastHopFails, Severity: Broken, Speaks: OfConfigured, Person: betweenTwo,
		Meaning: "the front takes nothing from the server behind it; weak while others stand in for it"},
	{Code: LastHopUnwatched, Severity: Weak, Speaks: OfConfigured, Person: betweenTwo,
		Meaning: "the certificate behind is wrong, and the front does not look at that"},
	{Code: LastHopUnchecked, Severity: Weak, Speaks: OfServer, Person: betweenTwo,
		Meaning: "requests go on over TLS, and nobody verifies the certificate there"},
	{Code: LastHopPlain, Severity: Note, Speaks: OfServer, Person: betweenTwo,
		Meaning: "requests go on to another machine without TLS"},
	{Code: ConfigurationRefused, Severity: Broken, Speaks: OfServer, Mends: ByKey,
		Meaning: "the server's own test refuses its configuration"},
	{Code: TestNotRun, Severity: Weak, Speaks: OfServer, Person: "the command is the estate file's",
		Meaning: "the server's own configuration test could not be run"},
	{Code: ConfigurationUnread, Severity: Weak, Speaks: OfServer, Person: "who may read it is for a person to say",
		Meaning: "a part of the configuration could not be read"},
	{Code: ConfigurationSuspect, Severity: Note, Speaks: OfServer, Person: "what was meant is for a person to say",
		Meaning: "the configuration is taken, though hardly as it is meant"},
	{Code: KeyOpen, Severity: Weak, Speaks: OfServer, Mends: ByMode,
		Meaning: "a private key file may be read or changed by other users"},
	{Code: LeftOver, Severity: Note, Speaks: OfServer,
		Person:  "what is taken away is gone: a person looks through it",
		Meaning: "certificates or keys lie on a server that nothing uses"},
	{Code: NotInEstate, Severity: Note, Speaks: OfServer, Mends: ByTaking,
		Meaning: "a name is configured at a server and not wanted there by the estate"},
	{Code: HostKeyChanged, Severity: Weak, Speaks: OfReach, Person: "a host key is compared by a person",
		Meaning: "a server's SSH host key is not the known one; nothing was read"},
	{Code: HostKeyUnknown, Severity: Weak, Speaks: OfReach,
		Person:  "a host key is compared by a person: insegna server trust",
		Meaning: "a server's SSH host key is not known; nothing was read"},
	{Code: LoginRefused, Severity: Weak, Speaks: OfReach, Person: "the service is let in by a person",
		Meaning: "a server does not let the service in; nothing was read"},
	{Code: ConnectionLost, Severity: Weak, Speaks: OfReach, Person: "the way there is the network's",
		Meaning: "the connection to a server broke off; nothing of what was read is used"},
	{Code: NotReached, Severity: Weak, Speaks: OfReach, Person: "the way there is the estate file's",
		Meaning: "a server's configuration could not be reached"},
	{Code: NoticeUndelivered, Severity: Weak, Speaks: OfService,
		Person:  "the way to people is the estate file's, and theirs",
		Meaning: "messages to an owner do not arrive; nobody there is told of what is wrong"},
	{Code: RequestWaits, Severity: Due, Speaks: OfService,
		Person:  "a CA that is asked by hand is asked by a person",
		Meaning: "a request that goes out by hand was not sent, or its reply has not come when it was expected"},
}

// RuleOf gives the row of a code; the zero Rule when there is none.
func RuleOf(code Code) Rule {
	if i := slices.IndexFunc(Rules, func(r Rule) bool { return r.Code == code }); i >= 0 {
		return Rules[i]
	}
	return Rule{}
}

// Stands lists the findings a code is the cause of, and takes the place of.
func (r *Rule) Stands() []Code {
	if !r.ExplainsCertificate {
		return r.Explains
	}
	return append(slices.Clone(r.Explains), With(AboutCertificate)...)
}

// Codes lists the codes of the rules that fit, in the catalogue's order.
func Codes(fits func(*Rule) bool) []Code {
	var out []Code
	for i := range Rules {
		if fits(&Rules[i]) {
			out = append(out, Rules[i].Code)
		}
	}
	return out
}

// With lists the codes that have a trait.
func With(t Trait) []Code { return Codes(func(r *Rule) bool { return r.Traits&t != 0 }) }

// Foldable lists the codes whose findings one about their server may stand for.
func Foldable() []Code {
	return Codes(func(r *Rule) bool { return r.Traits&(AtEndpoint|OfOneCertificate|OfOneIssuer) != 0 })
}

// Of lists the codes that speak of something.
func Of(s Speaks) []Code { return Codes(func(r *Rule) bool { return r.Speaks == s }) }

// At lists the codes that belong to a step of a visit.
func At(s Step) []Code { return Codes(func(r *Rule) bool { return r.Steps&s != 0 }) }
