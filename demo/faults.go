package demo

// Fault is a deliberate fault of the demo estate and the finding it must give.
type Fault struct {
	Host   string // "" for a finding about a server as a whole
	Server string
	Port   int    // 0 likewise
	Code   string // of the finding
	Story  string // what went wrong at Lantern Coast Ferries
	Spot   string // file and line of the server's configuration that must be named, below the demo's folder; "" for none
	Mends  Mends  // how it is mended
}

// Mends says how a fault is mended.
type Mends string

// How faults are mended.
const (
	There     Mends = "there"   // on its server, with what lies there or is known
	Renewed   Mends = "renewed" // by a certificate of a CA
	ByAPerson Mends = "by a person"
)

// Faults are all of them: a survey reports these findings and no others.
var Faults = []Fault{
	{"booking.lanterncoast.example", "pier-2", 8443, "differs-from-siblings",
		"the new certificate went to the balancer and pier-1, pier-2 was forgotten", "pier-2/sites-enabled/booking:5", There},
	{"lanterncoast.example", "quay-lb", 8443, "name-not-covered", "a wildcard was ordered without the apex",
		"quay-lb/certificates:3", Renewed},
	{"status.lanterncoast.example", "quay-lb", 8444, "expired", "nobody watches the page that says how things are",
		"quay-lb/status/1-status.both:1", There},
	{"", "quay-lb", 0, "configuration-suspect",
		"the new certificate was laid into the folder, and the old one comes before it",
		"quay-lb/status/2-status-2026.both:1", ByAPerson},
	{"", "quay-lb", 0, "last-hop-unchecked", "pier-2 was put behind the balancer in a hurry", "quay-lb/haproxy.cfg:30", ByAPerson},
	{"tracking.lanterncoast.example", "freight-1", 8446, "last-hop-fails",
		"the certificate between the two ended, while the one in front is fine",
		"freight-1/sites-enabled/tracking:10", ByAPerson},
	{"", "pier-1", 0, "last-hop-plain", "the menu asks the kiosks for prices in clear", "pier-1/sites-enabled/menu:8", ByAPerson},
	{"freight.lanterncoast.example", "freight-1", 8443, "ends-soon", "renewed by hand, and that hand is on holiday",
		"freight-1/sites-enabled/freight:4", Renewed},
	{"cargo.lanterncoast.example", "freight-1", 8444, "name-not-covered", "the site was renamed, its certificate was not",
		"freight-1/sites-enabled/cargo:5", Renewed},
	{"ships.lanterncoast.example", "freight-1", 8445, "chain-disordered",
		"the intermediates were pasted in the wrong order", "freight-1/sites-enabled/ships:4", There},
	{"roster.lanterncoast.example", "pier-2", 8445, "chain-incomplete", "only the leaf was copied to the server",
		"pier-2/sites-enabled/roster:5", There},
	{"pilots.lanterncoast.example", "pier-2", 8445, "chain-incomplete",
		"the crew's CA got a new key, its old certificate stayed in the file", "pier-2/sites-enabled/pilots:4", There},
	{"tugs.lanterncoast.example", "pier-2", 8445, "not-for-servers", "copied from a request for a boat's own certificate",
		"pier-2/sites-enabled/tugs:4", ByAPerson},
	{"menu.lanterncoast.example", "pier-1", 8446, "chain-root-sent", "the whole bundle was copied, root and all",
		"pier-1/sites-enabled/menu:5", There},
	{"deck-plans.lanterncoast.example", "pier-1", 8446, "other-site-answers",
		"the site speaks plain http alone, so the menu's site answers", "pier-1/sites-enabled/menu:2", Renewed},
	{"lost-property.lanterncoast.example", "pier-2", 8446, "self-signed", "a trial from years ago is still in place",
		"pier-2/sites-enabled/lost-property:4", Renewed},
	{"radar.lanterncoast.example", "pier-1", 9443, "lifetime-over-limit", "asked for as long as last year",
		"pier-1/sites-enabled/radar:4", Renewed},
	{"webcam.lanterncoast.example", "pier-2", 9443, "other-issuer", "taken from the crew's CA in a hurry",
		"pier-2/sites-enabled/webcam:4", ByAPerson},
	{"kiosk.lanterncoast.example", "kiosk-gw", 9443, "nothing-listens", "the listener was lost in a move", "", ByAPerson},
	{"kiosk-admin.lanterncoast.example", "kiosk-gw", 9444, "plain-http", "TLS was never switched on for this port",
		"kiosk-gw/sites-enabled/kiosk-admin:3", Renewed},
	{"timetable.lanterncoast.example", "pier-1", 8444, "not-reloaded",
		"the new certificate lies on the disk, and nobody reloaded", "pier-1/sites-enabled/timetable:5", There},
	{"events.lanterncoast.example", "pier-2", 8443, "site-not-enabled",
		"the site was written and never linked into sites-enabled", "pier-2/sites-available/events:2", There},
	{"parcels.lanterncoast.example", "pier-1", 8447, "wrong-file",
		"the new certificate got a new file name, the site kept the old one", "pier-1/sites-enabled/parcels:5", There},
	{"anchorage.lanterncoast.example", "pier-1", 8447, "chain-missing-on-disk",
		"a script wrote the leaf alone; the running server remembers better days", "pier-1/sites-enabled/anchorage:5", There},
	{"crane.lanterncoast.example", "freight-1", 8447, "key-of-another-certificate",
		"two key files were mixed up while tidying", "freight-1/sites-enabled/crane:6", There},
	{"", "freight-1", 0, "configuration-refused", "and its own test passes that, while a reload would end the server",
		"freight-1/sites-enabled/crane:6", There},
	{"", "pier-1", 0, "left-over", "last year's certificate was kept, just in case", "", ByAPerson},
	{"", "pier-1", 0, "key-open", "and copied in a way that lets everybody read its key", "", There},
	{"", "pier-1", 0, "not-in-estate", "the old shop moved away, its site stayed", "pier-1/sites-enabled/old-shop:4", ByAPerson},
	{"menu.lanterncoast.example", "pier-1", 8446, "redirect-missing", "nobody thought of those who leave the s out",
		"pier-1/sites-enabled/menu:15", There},
	{"api.lanterncoast.example", "quay-lb", 8445, "redirect-loses", "the redirect takes the path along and drops what stands behind it",
		"quay-lb/haproxy.cfg:34", There},
	{"freight.lanterncoast.example", "freight-1", 8443, "redirect-temporary", "Redirect without a word more is for the time being",
		"freight-1/sites-enabled/freight:10", There},
	{"timetable.lanterncoast.example", "pier-1", 8444, "challenge-blocked",
		"a redirect of the whole site comes before the location made for the CA", "pier-1/sites-enabled/timetable:14", There},
	{"moorings.lanterncoast.example", "kiosk-gw", 9445, "other-site-answers",
		"the site was never set up, so the default answers", "kiosk-gw/sites-enabled/harbourmaster:2", Renewed},
}
