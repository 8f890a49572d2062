package e2e

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"calmpigeon.example/client"
)

// twoWay is a house with a number to which people can write back.
func twoWay(t *testing.T) *house {
	t.Helper()
	h := build(t).with("waxseal")
	must[client.Sender](t)(h.Client.AddSender(t.Context(), client.NewSender{Sender: ourNumber, TwoWay: true}))
	return h
}

const ourNumber = "+447700900000"

// What people write is held against the message that it answers, told, found, and answered from where it came.
func TestConversations(t *testing.T) {
	t.Parallel()
	h := twoWay(t)
	all, desk := hear(t, nil), hear(t, nil)
	h.tell("all", all, func(s *client.ReceiverSettings) { s.Types = &[]string{"reply.received"} })
	h.tell("desk", desk, func(s *client.ReceiverSettings) {
		s.Types, s.Labels = &[]string{"reply.received"}, map[string]string{"pier": "east"}
	})
	const ada, ben = "+447700900123", "+447700900124"
	first := h.settled(
		h.send(
			client.Draft{To: ada, Text: "Berth 3", Sender: ourNumber, Reference: "crossing-7", Labels: map[string]string{"pier": "east"}},
		).ID,
	)
	h.settled(h.send(client.Draft{To: ben, Text: "Berth 4", Sender: ourNumber}).ID)
	h.reply(ada, "Is there room for a wheelchair?")
	h.reply(ben, "100% thanks_")
	var page client.List[client.Conversation]
	eventually(t, "both are there", func() bool {
		page = must[client.List[client.Conversation]](t)(h.Client.Conversations(t.Context(), client.ConversationFilter{}, "", 9))
		return len(page.Items) == 2
	})
	for _, c := range page.Items {
		if !c.Waiting || c.Sender != ourNumber || c.Gateway != "waxseal" || c.Count != 1 {
			t.Errorf("%+v", c)
		}
	}
	find := func(f client.ConversationFilter) (numbers []string) {
		t.Helper()
		for _, c := range must[client.List[client.Conversation]](t)(h.Client.Conversations(t.Context(), f, "", 9)).Items {
			numbers = append(numbers, c.Number)
		}
		return numbers
	}
	for q, want := range map[string]string{"WHEELCHAIR": ada, "0%": ben, "s_": ben, ada: ada, "%": ben, "nothing": ""} {
		if got := strings.Join(find(client.ConversationFilter{Q: q}), " "); got != want {
			t.Errorf("%q finds %q, want %q", q, got, want)
		}
	}
	thread := must[client.List[client.Said]](t)(h.Client.Conversation(t.Context(), ada, "", 9)).Items
	if len(thread) != 2 || thread[0].Ours || thread[0].Message != first.ID || !thread[1].Ours || thread[1].State != "delivered" {
		t.Errorf("%+v", thread)
	}
	eventually(t, "it is told, with what it answers", func() bool { return len(all.all()) == 2 && len(desk.all()) == 1 })
	var told struct{ Message, Reference, From, To string }
	if err := json.Unmarshal(desk.all()[0].Data, &told); err != nil || told.Message != first.ID || told.Reference != "crossing-7" ||
		told.From != ada ||
		told.To != ourNumber {
		t.Errorf("%+v, %v", told, err)
	}
	code, out, errOut := h.pigeon("", "conversation", "answer", ada, "--text", "Yes, ask at the gate", "--idempotency-key", "a-1")
	if code != 0 || !strings.Contains(out, ourNumber) || !strings.Contains(out, "waxseal") {
		t.Errorf("answer: %d, %s%s", code, out, errOut)
	}
	if code, _, _ := h.pigeon("", "conversation", "answer", ada, "--text", "Yes, ask at the gate", "--idempotency-key", "a-1"); code != 0 {
		t.Error("it cannot be repeated")
	}
	if got := find(client.ConversationFilter{Waiting: true}); strings.Join(got, " ") != ben {
		t.Errorf("%v want an answer", got)
	}
	code, out, errOut = h.pigeon("", "conversation", "show", ada)
	if code != 0 || strings.Count(out, "Yes, ask at the gate") != 1 || strings.Index(out, "wheelchair") > strings.Index(out, "Yes, ask") {
		t.Errorf("show: %d, %s%s", code, out, errOut)
	}
	if code, out, _ = h.pigeon("", "conversation", "done", ben); code != 0 || !strings.Contains(out, "wants no answer: 1 text") {
		t.Errorf("done: %d, %s", code, out)
	}
	if got := find(client.ConversationFilter{Waiting: true}); len(got) != 0 {
		t.Errorf("%v want an answer", got)
	}
	if code, out, _ = h.pigeon("", "conversation", "done", ben, "--undo"); code != 0 || !strings.Contains(out, "wants an answer again") {
		t.Errorf("undo: %d, %s", code, out)
	}
	if code, out, _ = h.pigeon("", "conversation", "list", "--waiting"); code != 0 || !strings.Contains(out, ben) ||
		strings.Contains(out, ada) {
		t.Errorf("list: %d, %s", code, out)
	}
	// The rules hold: nobody who has opted out is answered.
	h.reply(ben, "STOP")
	eventually(t, "it is heeded", func() bool {
		return len(must[client.List[client.OptOut]](t)(h.Client.OptOuts(t.Context(), ben, false, "", 0)).Items) == 1
	})
	if m := h.settled(must[client.Message](t)(h.Client.Answer(t.Context(), ben, client.Reply{Text: "Why?"}, "")).ID); m.Cause != "opted_out" {
		t.Errorf("one who has opted out: %s, %s", m.State, m.Cause)
	}
	var p *client.Problem
	for name, number := range map[string]string{"one who never wrote": "+447700900150", "no number": "x"} {
		if _, err := h.Client.Answer(t.Context(), number, client.Reply{Text: "x"}, ""); !errors.As(err, &p) ||
			p.Status != 404 && p.Status != 422 {
			t.Errorf("%s: %v", name, err)
		}
	}
	// A sender says to whom replies go.
	crew := hear(t, nil)
	h.tell("crew", crew)
	if _, err := h.Client.PutSender(t.Context(), client.NewSender{Sender: ourNumber, TwoWay: true, RepliesTo: "nobody"}); !errors.As(
		err,
		&p,
	) ||
		p.Errors[0].Field != "replies_to" {
		t.Errorf("a receiver that is none: %v", err)
	}
	if code, _, errOut := h.pigeon("", "sender", "set", ourNumber, "--replies-to", "crew"); code != 0 {
		t.Fatal(errOut)
	}
	replies := func(r *ear) (n int) { // what was sent before may still be delivered meanwhile
		for _, told := range r.all() {
			if told.Type == "reply.received" {
				n++
			}
		}
		return n
	}
	before := replies(all)
	h.reply(ada, "Thank you")
	eventually(t, "the crew is told", func() bool { return replies(crew) == 1 })
	if n := replies(all); n != before {
		t.Errorf("others were told %d times, too", n-before)
	}
}

// In the console a reply is found, read and answered.
func TestConsoleReplies(t *testing.T) {
	t.Parallel()
	h := twoWay(t)
	for i := range 3 {
		number := fmt.Sprintf("+44770090012%d", i)
		h.settled(h.send(client.Draft{To: number, Text: "Berth 3", Sender: ourNumber}).ID)
		h.reply(number, fmt.Sprintf("Question %d", i))
	}
	b := open(t)
	b.do(chromedp.Navigate(h.URL + "/replies#key=" + h.Key))
	b.shows("h1", "3 replies want an answer")
	b.write(`input[type="search"]`, "question 1")
	b.shows("h1", "1 reply wants an answer")
	b.do(chromedp.Click(`.conversations li button`))
	b.shows(".thread h2", "+447700900121")
	b.shows(".thread ol", "Berth 3")
	b.write(`.thread textarea`, "An answer")
	b.do(chromedp.Click(`.thread button[type="submit"]`))
	b.shows(".thread ol", "An answer")
	b.shows("h1", "Replies")
	eventually(t, "it reaches the handset", func() bool {
		for _, one := range h.Fleet.Phones.All("+447700900121", 9) {
			for _, text := range one.Texts {
				if text.Text == "An answer" {
					return true
				}
			}
		}
		return false
	})
}
