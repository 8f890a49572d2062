package fleet

import (
	"cmp"
	"slices"
	"strings"
	"sync"
	"time"
)

const (
	textsMost    = 100  // that a handset keeps, as phones do
	handsetsMost = 5000 // that the fleet simulates; the longest silent goes first
)

// Text is a text as a handset shows it.
type Text struct {
	From     string    `json:"from"`
	Text     string    `json:"text"`
	Segments int       `json:"segments"`
	Encoding string    `json:"encoding"`
	Call     bool      `json:"call,omitempty"`  // it was spoken
	Flash    bool      `json:"flash,omitempty"` // it was shown at once and not kept
	At       time.Time `json:"at"`
}

// Handset is a practice phone and what arrived on it, the newest first.
type Handset struct {
	Number string `json:"number"`
	Texts  []Text `json:"texts"`
}

// Handsets are all practice phones.
type Handsets struct {
	mu      sync.Mutex
	phones  map[string]*phone
	waiting map[chan struct{}]struct{}
}

type phone struct {
	texts   []Text // the newest last
	partial map[partialKey]map[int]received
}

// partialKey is what a handset tells the texts by whose parts it is missing.
type partialKey struct {
	from      string
	reference byte
	parts     int
}

func newHandsets() *Handsets {
	return &Handsets{phones: map[string]*phone{}, waiting: map[chan struct{}]struct{}{}}
}

// receive is one short message arriving at its handset. A text is shown when
// all its parts are there, in whatever order they came.
func (h *Handsets) receive(s short, at time.Time) error {
	r, err := s.decode()
	if err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	p := h.phones[s.to]
	if p == nil {
		if len(h.phones) >= handsetsMost {
			h.dropSilent()
		}
		p = &phone{partial: map[partialKey]map[int]received{}}
		h.phones[s.to] = p
	}
	text := r.text
	if r.parts > 1 {
		key := partialKey{s.from, r.reference, r.parts}
		if p.partial[key] == nil {
			p.partial[key] = map[int]received{}
		}
		p.partial[key][r.part] = r
		if len(p.partial[key]) < r.parts {
			return nil
		}
		var whole strings.Builder
		for n := 1; n <= r.parts; n++ {
			whole.WriteString(p.partial[key][n].text)
		}
		text = whole.String()
		delete(p.partial, key)
	}
	encoding := "gsm7"
	if s.wide {
		encoding = "ucs2"
	}
	p.texts = append(p.texts, Text{From: s.from, Text: text, Segments: r.parts, Encoding: encoding, Call: s.call, Flash: s.flash, At: at})
	if len(p.texts) > textsMost {
		p.texts = p.texts[1:]
	}
	for c := range h.waiting {
		select {
		case c <- struct{}{}:
		default:
		}
	}
	return nil
}

func (h *Handsets) dropSilent() {
	var oldest string
	var when time.Time
	for number, p := range h.phones {
		if at := p.last(); oldest == "" || at.Before(when) {
			oldest, when = number, at
		}
	}
	delete(h.phones, oldest)
}

func (p *phone) last() time.Time {
	if len(p.texts) == 0 {
		return time.Time{}
	}
	return p.texts[len(p.texts)-1].At
}

// All lists the handsets on which something arrived, the latest first, with at
// most so many texts each. A number narrows it to that handset.
func (h *Handsets) All(number string, most int) []Handset {
	h.mu.Lock()
	defer h.mu.Unlock()
	all := []Handset{}
	for n, p := range h.phones {
		if number != "" && n != number || len(p.texts) == 0 {
			continue
		}
		texts := slices.Clone(p.texts[max(0, len(p.texts)-most):])
		slices.Reverse(texts)
		all = append(all, Handset{n, texts})
	}
	slices.SortFunc(all, func(a, b Handset) int {
		return cmp.Or(b.Texts[0].At.Compare(a.Texts[0].At), strings.Compare(a.Number, b.Number))
	})
	return all
}

// watch returns a channel that is told when something arrives, and a function
// that ends it.
func (h *Handsets) watch() (<-chan struct{}, func()) {
	c := make(chan struct{}, 1)
	h.mu.Lock()
	defer h.mu.Unlock()
	h.waiting[c] = struct{}{}
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.waiting, c)
	}
}
