package demo

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"slices"

	"calmpigeon.example/client"
)

// Act is one message of the scenario and what must become of it.
type Act struct {
	About string
	Draft client.Draft
	State string
	Cause string
	// Evidence lists claims that the message's evidence must hold, as
	// "source claim", in any order; a claim that stands twice must be there
	// twice.
	Evidence  []string
	Contested bool
	Weak      bool
	Repeats   int // how often at least something is said again
}

// token makes sending the act harmless to repeat. It follows the draft, so that
// a demo whose data was loaded by an earlier version, with other drafts, goes on.
func (act Act) token() string {
	draft, err := json.Marshal(act.Draft)
	if err != nil {
		panic(err) // it is plain values
	}
	return fmt.Sprintf("demo-%x", sha256.Sum256(draft))
}

// The senders of Lanternholm Ferries.
var senders = []client.NewSender{
	{Sender: "Lanternholm", Default: true, Registrations: map[string]string{"AU": "AU-LH-0917", "IE": "IE-LH-0031"}},
	{Sender: "LH Boarding", Defaults: []client.SenderDefault{{Kind: "otp"}}, Registrations: map[string]string{"AU": "AU-LH-0918"}},
	{Sender: "+447700900000", TwoWay: true, PerSecond: 5, Registrations: map[string]string{"US": "C-LANTERN1"}},
}

// swapped is a gateway whose key and secret were given the wrong way round.
const swapped = "oldpier-swapped"

// The routes of Lanternholm Ferries: passcodes the safest way, storms the
// cheapest, and the ticket desk through a gateway that turns out not to work.
var routes = []client.Route{
	{
		Name:      "codes",
		Kinds:     []string{"otp"},
		Countries: []string{"GB"},
		Gateways:  []client.Leg{{Gateway: "commonquay"}, {Gateway: "harbourline"}},
		Prefer:    "conversion",
	},
	{Name: "storm", Kinds: []string{"bulk"}, Gateways: []client.Leg{{Gateway: "longshore", Weight: 3}, {Gateway: "sandbank", Weight: 1}}},
	{
		Name:      "desk",
		Senders:   []string{"+447700900000"},
		Countries: []string{"GB"},
		Gateways:  []client.Leg{{Gateway: swapped}, {Gateway: "waxseal"}},
	},
}

const berth = "Lanternholm Ferries: crossing 0740 to Skerrow now leaves from berth 3. Boarding closes at 07:30."

// The scenario: passengers in several countries, one of each way in which a
// gateway, a network or a handset can behave. Numbers are from ranges that
// regulators reserve for fiction, or stand in for such where a country has
// none.
var scenario = slices.Concat(
	crossings(
		"+447700900101", "+447700900123", "+447700900144", "+12025550117", "+12025550143", "+33639980012", "+33639980075",
		"+46701740605", "+46701740642", "+61491570006"),
	[]Act{
		{About: "Signing in to a boarding pass", Draft: boarding("+447700900112"), State: "delivered"},
		{About: "Signing in from abroad", Draft: boarding("+33639980031"), State: "delivered"},
		{
			About: "A number as people type it",
			Draft: client.Draft{
				To:        "07700 900127",
				Country:   "GB",
				Template:  "crossing-moved",
				Fields:    map[string]any{"time": "07:40", "port": "Skerrow", "berth": "3"},
				Reference: "crossing-0740",
			},
			State: "delivered",
		},
		{
			About: "A curly quote that would double the cost",
			Draft: client.Draft{
				To:        "+447700900128",
				Text:      "Lanternholm Ferries: don’t miss the 07:40 to Skerrow. It now leaves from berth 3 [gate B] – boarding closes at 07:30…",
				Cure:      "safe",
				Reference: "crossing-0740",
			},
			State: "delivered",
		},
		{
			About: "The storm, in Greek",
			Draft: bulk(
				"+447700900120",
				"Lanternholm Ferries: λόγω κακοκαιρίας ακυρώνονται όλα τα δρομολόγια της Κυριακής. Τα εισιτήρια ισχύουν έως την "+
					"Τετάρτη ή επιστρέφονται.",
			),
			State: "delivered",
		},
		{
			About: "The storm, in Turkish",
			Draft: bulk(
				"+447700900121",
				"Lanternholm Ferries: Fırtına nedeniyle pazar günkü tüm seferler iptal edildi. Biletler çarşambaya kadar geçerlidir.",
			),
			State: "delivered",
		},
		{
			About: "The storm, in Polish",
			Draft: bulk(
				"+447700900122",
				"Lanternholm Ferries: z powodu sztormu odwołano wszystkie niedzielne rejsy. Bilety są ważne do środy.",
			),
			State: "delivered",
		},
		{
			About: "The storm, in Hindi",
			Draft: bulk(
				"+447700900124",
				"Lanternholm Ferries: तूफ़ान के कारण रविवार की सभी नावें रद्द हैं। टिकट बुधवार तक मान्य रहेंगे।",
			),
			State: "delivered",
		},
		{
			About: "The storm, with an emoji",
			Draft: bulk("+447700900125", "🌊 All Sunday crossings are cancelled. Your ticket holds until Wednesday. ⛴️"),
			State: "delivered",
		},
		{
			About: "The storm, three segments long",
			Draft: bulk(
				"+447700900126",
				"Lanternholm Ferries: all Sunday crossings between Lanternholm, Skerrow, Port Amity and the Outer Pans are cancelled "+
					"because of the storm. Your ticket holds on any crossing until Wednesday night without a new booking; refunds are "+
					"paid to the card you booked with. The ticket offices stay open until 20:00 [weather permitting], and the waiting "+
					"room at berth 1 all night. Fare held: 48€.",
			),
			State: "delivered",
		},

		{
			About:    "A form, and a letter in reply",
			Draft:    by("sandbank", "+447700900150"),
			State:    "delivered",
			Evidence: []string{"receipt delivered"},
		},
		{
			About:    "An array of messages",
			Draft:    by("longshore", "+447700900151"),
			State:    "delivered",
			Evidence: []string{"receipt delivered"},
		},
		{
			About:    "A token first; no receipts, so it is asked",
			Draft:    by("stillwater", "+447700900152"),
			State:    "delivered",
			Evidence: []string{"query delivered"},
		},
		{
			About:    "A GET with Greek in hexadecimal",
			Draft:    client.Draft{To: "+447700900153", Text: "Αποβάθρα 3, 07:30", Gateway: "oldpier", Reference: "crossing-0740"},
			State:    "delivered",
			Evidence: []string{"receipt delivered"},
		},
		{
			About:    "The open REST standard",
			Draft:    by("commonquay", "+447700900154"),
			State:    "delivered",
			Evidence: []string{"receipt delivered"},
		},
		{
			About: "Registered wording alone",
			Draft: client.Draft{
				To:       "+447700900155",
				Template: "berth-registered",
				Fields:   map[string]any{"time": "07:40", "port": "Skerrow", "berth": "3"},
				Gateway:  "stamphouse",
			},
			State:    "delivered",
			Evidence: []string{"receipt delivered"},
		},
		{
			About: "A passcode, spoken",
			Draft: client.Draft{
				To:       "+447700900156",
				Template: "boarding-call",
				Fields:   map[string]any{"code": "493117"},
				Gateway:  "stamphouse-voice",
			},
			State: "delivered",
		},
		{
			About: "A receipt for each segment",
			Draft: client.Draft{
				To:        "+447700900157",
				Text:      berth + " Have your boarding pass ready: the ship waits for nobody, and the next one sails on Wednesday.",
				Gateway:   "waxseal",
				Reference: "crossing-0740",
			},
			State:    "delivered",
			Evidence: []string{"receipt delivered", "receipt delivered"},
		},
		{
			About:    "Key and secret swapped; the next gateway",
			Draft:    client.Draft{To: "+447700900158", Text: berth, Sender: "+447700900000", Reference: "desk"},
			State:    "delivered",
			Evidence: []string{"receipt delivered"},
		},

		{
			About:    "The handset is switched off",
			Draft:    crossing("+447700900180"),
			State:    "undeliverable",
			Cause:    "absent",
			Evidence: []string{"receipt undeliverable"},
		},
		{
			About:    "No such number",
			Draft:    crossing("+447700900181"),
			State:    "rejected",
			Cause:    "invalid_number",
			Evidence: []string{"reply rejected"},
		},
		{
			About:    "The receipt is lost; a query tells",
			Draft:    crossing("+447700900182"),
			State:    "delivered",
			Evidence: []string{"query delivered"},
		},
		{
			About:    "The receipt comes twice",
			Draft:    crossing("+447700900183"),
			State:    "delivered",
			Evidence: []string{"receipt delivered"},
			Repeats:  1,
		},
		{
			About:    "The receipt comes before the reply",
			Draft:    crossing("+447700900184"),
			State:    "delivered",
			Evidence: []string{"receipt delivered", "reply accepted"},
		},
		{
			About:    "The reply never comes, though it was taken",
			Draft:    crossing("+447700900185"),
			State:    "delivered",
			Evidence: []string{"own doubtful", "receipt delivered"},
		},
		{
			About:    "500 every time, until it is too late",
			Draft:    soon("+447700900186", "5s"),
			State:    "expired",
			Cause:    "too_late",
			Evidence: []string{"reply queued", "clock expired"},
		},
		{
			About:    "429 with Retry-After, then taken",
			Draft:    crossing("+447700900187"),
			State:    "delivered",
			Evidence: []string{"reply queued", "reply accepted"},
		},
		{
			About:    "200 with a failure inside",
			Draft:    crossing("+447700900188"),
			State:    "rejected",
			Cause:    "content_refused",
			Evidence: []string{"reply rejected"},
		},
		{
			About:    "Silent for good",
			Draft:    crossing("+447700900189"),
			State:    "unknown",
			Evidence: []string{"query enroute", "clock unknown"},
		},
		{
			About:    "Cut before it was taken",
			Draft:    crossing("+447700900190"),
			State:    "delivered",
			Evidence: []string{"own doubtful", "reply accepted"},
		},
		{
			About:    "Cut after it was taken",
			Draft:    crossing("+447700900191"),
			State:    "delivered",
			Evidence: []string{"own doubtful", "receipt delivered"},
		},
		{
			About:    "Cut after it was taken; no reference",
			Draft:    by("sandbank", "+447700900291"),
			State:    "delivered",
			Evidence: []string{"own doubtful", "receipt delivered"},
			Weak:     true,
		},
		{
			About:    "A reply that cannot be read",
			Draft:    crossing("+447700900192"),
			State:    "delivered",
			Evidence: []string{"own doubtful", "receipt delivered"},
		},
		{
			About:    "Receipts backwards",
			Draft:    crossing("+447700900193"),
			State:    "delivered",
			Evidence: []string{"receipt delivered", "receipt enroute"},
		},
		{
			About:     "Receipts that contradict each other",
			Draft:     crossing("+447700900194"),
			State:     "delivered",
			Evidence:  []string{"receipt undeliverable", "receipt delivered"},
			Contested: true,
		},
		{About: "A forged receipt", Draft: crossing("+447700900195"), State: "delivered", Evidence: []string{"receipt delivered"}},
		{
			About:    "500 once, then taken",
			Draft:    crossing("+447700900196"),
			State:    "delivered",
			Evidence: []string{"reply queued", "reply accepted"},
		},
		{About: "A slow gateway", Draft: crossing("+447700900197"), State: "delivered"},
	},
)

func boarding(to string) client.Draft {
	return client.Draft{To: to, Template: "boarding-code", Fields: map[string]any{"code": "493117"}, Reference: "boarding"}
}

func crossing(to string) client.Draft {
	return client.Draft{To: to, Text: berth, Kind: "transactional", Reference: "crossing-0740"}
}

// by is a crossing through a gateway that is named.
func by(gateway, to string) client.Draft {
	d := crossing(to)
	d.Gateway = gateway
	return d
}

func soon(to string, within client.Span) client.Draft {
	d := crossing(to)
	d.ValidFor = within
	return d
}

func bulk(to, text string) client.Draft {
	return client.Draft{To: to, Text: text, Kind: "bulk", Reference: "storm-sunday", AtAnyHour: true}
}

func crossings(numbers ...string) []Act {
	acts := make([]Act, len(numbers))
	for i, n := range numbers {
		acts[i] = Act{About: "A crossing moves to another berth", Draft: crossing(n), State: "delivered"}
	}
	return acts
}
