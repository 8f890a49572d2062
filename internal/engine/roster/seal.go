package roster

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/passcode"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/store"
)

// sealedText is what of a message is sealed.
type sealedText struct {
	Text   string         `json:"text"`
	Fields map[string]any `json:"fields,omitempty"`
}

// Seal takes the text and the fields of a passcode out of a message, and returns
// them sealed; nil for other kinds. What stays has its letters and digits masked.
func (r *Roster) Seal(c *store.Content) ([]byte, error) {
	if c.Kind != pace.OTP {
		return nil, nil
	}
	plain, err := json.Marshal(sealedText{c.Text, c.Fields})
	if err != nil {
		return nil, fmt.Errorf("sealing a passcode: %w", err)
	}
	c.Marks = r.marks(c.Text)
	encoding := smstext.Encoding(c.Encoding)
	c.Text, c.Given = smstext.Masked(c.Text, encoding), smstext.Masked(c.Given, encoding)
	masked := make(map[string]any, len(c.Fields))
	for name, value := range c.Fields {
		masked[name] = smstext.Masked(fmt.Sprint(value), encoding)
	}
	if c.Fields != nil {
		c.Fields = masked
	}
	return r.sealer.Seal(plain, c.ID.String()), nil
}

// code is what may be a code in a text: letters and digits, a digit among them; or such capitals as codes of letters are
// drawn from.
var code = regexp.MustCompile(`[0-9A-Za-z]*[0-9][0-9A-Za-z]*|[` + passcode.Letters + `]{4,}`)

const (
	codeLeast = 4  // characters of a code
	marksMost = 16 // codes of a text
)

// marks are keyed hashes of the codes in a text.
func (r *Roster) marks(text string) string {
	var marks strings.Builder
	n := 0
	for _, one := range code.FindAllString(text, -1) {
		if len(one) >= codeLeast && n < marksMost {
			marks.Write(r.mark(one))
			n++
		}
	}
	return marks.String()
}

func (r *Roster) mark(code string) []byte {
	return r.sealer.MAC([]byte("code " + code))[:store.MarkSize]
}

// Hiding hides the codes that marks stand for in what a gateway says later of a
// passcode, whose text is gone by then.
func (r *Roster) Hiding(marks string) func(string) string {
	known := map[string]bool{}
	for ; len(marks) >= store.MarkSize; marks = marks[store.MarkSize:] {
		known[marks[:store.MarkSize]] = true
	}
	return func(said string) string {
		return code.ReplaceAllStringFunc(said, func(one string) string {
			if len(one) >= codeLeast && known[string(r.mark(one))] {
				return "‹code›"
			}
			return one
		})
	}
}

// Hide hides codes in all that was answered, and returns what masks them besides what
// mask does.
func (r *Roster) Hide(x *store.Exchange, marks string, mask func(string) string) func(string) string {
	hiding := r.Hiding(marks)
	x.Hide(hiding)
	return func(said string) string { return hiding(mask(said)) }
}

// Open puts what was sealed back into a message that is about to be handed over.
func (r *Roster) Open(c *store.Content) error {
	if c.Sealed == nil {
		return nil
	}
	plain, err := r.sealer.Open(c.Sealed, c.ID.String())
	if err != nil {
		return err
	}
	var p sealedText
	if err := json.Unmarshal(plain, &p); err != nil {
		return fmt.Errorf("opening a passcode: %w", err)
	}
	c.Text, c.Fields, c.Sealed = p.Text, p.Fields, nil
	return nil
}

// Fingerprint is a hash of a request that nobody without the sealing key can
// guess the request from.
func (r *Roster) Fingerprint(request []byte) []byte { return r.sealer.MAC(request) }
