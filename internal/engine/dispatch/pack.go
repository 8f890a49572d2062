package dispatch

import (
	"fmt"
	"strings"
	"time"

	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/store"
)

// A request carries as many messages as the dialect allows and as have in
// common what it says. A message that was refused or not answered goes again in
// a smaller company each time, and at last alone: one that makes a gateway
// stumble holds up no others for long.

// shrink is how much smaller a pack is at each further attempt.
const shrink = 8

// packer puts messages together.
type packer struct {
	call     *dialect.Call
	requests int // that may still be made
	kept     int // of them, for others than what is being placed
	room     int // for messages
	packs    []pack
	open     map[string]int // the pack that takes more of a kind
}

type pack struct {
	messages []store.Message
	going    []store.Message // the same, once it is recorded that they go
	numbers  map[phone.Number]bool

	notBefore time.Time // it may leave; zero: at once
	arrived   func()    // is called once it has, or will not; nil: nobody waits for that
}

func newPacker(call *dialect.Call, requests, room int) *packer {
	return &packer{call: call, requests: requests, room: room, open: map[string]int{}}
}

// place finds a place for a message; false if there is none. A number stands
// only once in a request, because a reply may tell its messages by number.
func (p *packer) place(m store.Message) bool {
	if p.room == 0 {
		return false
	}
	most := p.call.Most
	for range m.Attempts {
		if most = max(most/shrink, 1); most == 1 {
			break
		}
	}
	key := ""
	if most > 1 {
		key = p.key(m, most)
		if at, ok := p.open[key]; ok && len(p.packs[at].messages) < most && !p.packs[at].numbers[m.To] {
			p.packs[at].messages = append(p.packs[at].messages, m)
			p.packs[at].numbers[m.To] = true
			p.room--
			return true
		}
	}
	if p.requests <= p.kept {
		return false
	}
	p.requests--
	p.room--
	p.packs = append(p.packs, pack{messages: []store.Message{m}, numbers: map[phone.Number]bool{m.To: true}})
	if most > 1 {
		p.open[key] = len(p.packs) - 1
	}
	return true
}

// key is what the messages of a pack have in common.
func (p *packer) key(m store.Message, most int) string {
	var key strings.Builder
	fmt.Fprint(&key, most)
	for _, field := range p.call.Same {
		key.WriteByte(0)
		switch field {
		case "sender":
			key.WriteString(m.Sender)
		case "text":
			key.WriteString(m.Text)
		case "kind":
			key.WriteString(string(m.Kind))
		case "encoding":
			key.WriteString(m.Encoding)
		case "country":
			key.WriteString(m.Country)
		case "template":
			key.WriteString(m.Template + "\x00" + m.Registration)
		case "flash":
			fmt.Fprint(&key, m.Flash)
		}
	}
	return key.String()
}

// messages are all that were placed.
func (p *packer) messages() []store.Message {
	var all []store.Message
	for _, one := range p.packs {
		all = append(all, one.messages...)
	}
	return all
}
