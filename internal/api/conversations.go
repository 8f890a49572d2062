package api

import (
	"errors"
	"fmt"
	"net/http"
	"unicode/utf8"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/engine/conversations"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/store"
)

// searchMost is how long a text is at most that is looked for.
const searchMost = 100

func (a *API) conversations(c *gin.Context) {
	p, faults := pageOf(c)
	var f store.ConversationFilter
	for name, values := range c.Request.URL.Query() {
		value := values[0]
		switch name {
		case "q": // a number, or a text
			if n, err := phone.Parse(value); err == nil {
				f.Number = n.String()
			} else if f.Text = store.Keepable(value); utf8.RuneCountInString(value) > searchMost {
				faults.Add(name, fmt.Sprintf("%d characters", utf8.RuneCountInString(value)), fmt.Sprintf("at most %d", searchMost))
			}
		case "waiting":
			if f.Waiting = value == "true"; !f.Waiting && value != "false" {
				faults.Add(name, fmt.Sprintf("%q is neither", value), "true or false")
			}
		}
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	found, err := a.engine.Store.Conversations(c.Request.Context(), f, p.after, p.limit+1)
	if err != nil {
		a.refuse(c, err)
		return
	}
	found, next := cut(p, found, func(one *store.Conversation) uuid.UUID { return one.Last.ID })
	l := client.List[client.Conversation]{Items: []client.Conversation{}, Next: next}
	for _, one := range found {
		l.Items = append(l.Items, client.Conversation{Number: one.Last.FromE164, Sender: one.Last.ToSender,
			Gateway: a.gatewayName(one.Last.GatewayID),
			Text:    one.Last.Text, At: one.Last.ReceivedAt, Count: one.Count, Waiting: one.Waiting})
	}
	c.JSON(http.StatusOK, l)
}

// numberIn is the number in the address.
func (a *API) numberIn(c *gin.Context) (string, bool) {
	number, err := phone.Parse(c.Param("number"))
	if err != nil {
		a.refuse(c, fault.New("number", fault.Why(err), phone.Accepted+`; in an address the plus is written %2B`))
		return "", false
	}
	return number.String(), true
}

func (a *API) conversation(c *gin.Context) {
	number, ok := a.numberIn(c)
	if !ok {
		return
	}
	p, faults := pageOf(c)
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	found, err := a.engine.Talk.Thread(c.Request.Context(), number, p.after, p.limit+1)
	if err == nil && len(found) == 0 && p.after == uuid.Nil {
		err = &nothing{what: "conversation", name: number}
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	found, next := cut(p, found, func(s *conversations.Said) uuid.UUID { return s.ID() })
	l := client.List[client.Said]{Items: []client.Said{}, Next: next}
	for _, s := range found {
		if m := s.Ours; m != nil {
			l.Items = append(l.Items, client.Said{ID: m.ID.String(), At: m.CreatedAt, Ours: true, Text: m.Text, Sender: m.Sender,
				Gateway: a.gatewayName(m.GatewayID), State: string(m.State), Cause: string(m.Cause), Reference: m.Reference})
			continue
		}
		w := a.wireInbound(*s.Theirs)
		l.Items = append(l.Items, client.Said{ID: w.ID, At: w.At, Text: w.Text, Sender: w.To, Gateway: w.Gateway, Message: w.Message})
	}
	c.JSON(http.StatusOK, l)
}

// answerConversation sends an answer to what a number wrote last.
func (a *API) answerConversation(c *gin.Context) {
	number, ok := a.numberIn(c)
	if !ok {
		return
	}
	n, err := read[client.Reply](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	d, err := a.engine.Talk.Reply(c.Request.Context(), keyOf(c), number, intake.Draft{Text: n.Text, Sender: n.Sender,
		Gateway: n.Gateway, Kind: n.Kind, Reference: n.Reference, Labels: n.Labels})
	if errors.Is(err, conversations.ErrNothing) {
		err = &nothing{what: "conversation", name: number}
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	m, err := a.accept(c, d, c.GetHeader("Idempotency-Key"))
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.Header("Location", "/v1/messages/"+m.ID)
	c.JSON(http.StatusAccepted, m)
}

// conversationDone notes that what a number wrote wants no answer, or takes that back.
func (a *API) conversationDone(c *gin.Context) {
	number, ok := a.numberIn(c)
	if !ok {
		return
	}
	n, err := read[client.ConversationDone](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	changed, err := a.engine.Store.SetDone(c.Request.Context(), number, keyOf(c).Name, a.engine.Now(), !n.Undo)
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, client.ConversationsDone{Texts: changed})
}
