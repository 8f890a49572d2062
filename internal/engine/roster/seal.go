package roster

import (
	"encoding/json"
	"fmt"

	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/store"
)

// passcode is what of a message is sealed.
type passcode struct {
	Text   string         `json:"text"`
	Fields map[string]any `json:"fields,omitempty"`
}

// Seal takes the text and the fields of a passcode out of a message, and returns
// them sealed; nil for other kinds. What stays has its letters and digits masked.
func (r *Roster) Seal(c *store.Content) ([]byte, error) {
	if c.Kind != pace.OTP {
		return nil, nil
	}
	plain, err := json.Marshal(passcode{c.Text, c.Fields})
	if err != nil {
		return nil, fmt.Errorf("sealing a passcode: %w", err)
	}
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

// Open puts what was sealed back into a message that is about to be handed over.
func (r *Roster) Open(c *store.Content) error {
	if c.Sealed == nil {
		return nil
	}
	plain, err := r.sealer.Open(c.Sealed, c.ID.String())
	if err != nil {
		return err
	}
	var p passcode
	if err := json.Unmarshal(plain, &p); err != nil {
		return fmt.Errorf("opening a passcode: %w", err)
	}
	c.Text, c.Fields, c.Sealed = p.Text, p.Fields, nil
	return nil
}

// Fingerprint is a hash of a request that nobody without the sealing key can
// guess the request from.
func (r *Roster) Fingerprint(request []byte) []byte { return r.sealer.MAC(request) }
