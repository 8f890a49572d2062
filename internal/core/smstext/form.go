package smstext

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"calmpigeon.example/internal/core/fault"
)

// Form is how a text is written for a gateway.
type Form string

// The forms. Each can also be written in hexadecimal; see [EncodeHex].
const (
	UTF8    Form = "utf-8"
	Latin1  Form = "latin-1"  // ISO 8859-1
	UTF16BE Form = "utf-16be" // UCS-2 as SMS carries it, surrogates in pairs
	Packed  Form = "packed"   // septets of the default alphabet, eight in seven octets
)

// Forms lists all forms.
var Forms = []Form{UTF8, Latin1, UTF16BE, Packed}

// ErrForm is wrapped by the errors of [Encode] and [Decode].
var ErrForm = errors.New("cannot be written in this form")

// Encode writes a text in a form.
//
// Packed septets carry no length. As TS 23.038 §6.1.2.3.1 has it, a carriage
// return fills seven bits that would be left over, and a text that ends on the
// border of an octet with a carriage return gets a second one.
func Encode(form Form, text string) ([]byte, error) {
	switch form {
	case UTF8:
		if !utf8.ValidString(text) {
			return nil, fault.Because(ErrForm, "the text is not UTF-8")
		}
		return []byte(text), nil
	case Latin1:
		out := make([]byte, 0, len(text))
		for i, r := range text {
			if r > 0xFF {
				return nil, fault.Because(ErrForm, "%q (U+%04X) at byte %d is not in Latin-1", r, r, i)
			}
			out = append(out, byte(r))
		}
		return out, nil
	case UTF16BE:
		if !utf8.ValidString(text) {
			return nil, fault.Because(ErrForm, "the text is not UTF-8")
		}
		out := make([]byte, 0, 2*len(text))
		for _, u := range utf16.Encode([]rune(text)) {
			out = binary.BigEndian.AppendUint16(out, u)
		}
		return out, nil
	case Packed:
		septets, err := Alphabet{}.septets(text)
		if err != nil {
			return nil, err
		}
		if n := len(septets); n%8 == 7 || n > 0 && n%8 == 0 && septets[n-1] == '\r' {
			septets = append(septets, '\r')
		}
		return pack(septets), nil
	}
	return nil, fault.Because(ErrForm, "there is no form %q", form)
}

// Decode reads back what [Encode] wrote.
func Decode(form Form, data []byte) (string, error) {
	switch form {
	case UTF8:
		if !utf8.Valid(data) {
			return "", fault.Because(ErrForm, "not UTF-8")
		}
		return string(data), nil
	case Latin1:
		var b strings.Builder
		for _, c := range data {
			b.WriteRune(rune(c))
		}
		return b.String(), nil
	case UTF16BE:
		if len(data)%2 != 0 {
			return "", fault.Because(ErrForm, "%d octets are no UTF-16", len(data))
		}
		units := make([]uint16, len(data)/2)
		for i := range units {
			units[i] = binary.BigEndian.Uint16(data[2*i:])
		}
		for i := 0; i < len(units); i++ {
			switch {
			case !utf16.IsSurrogate(rune(units[i])):
			case i+1 < len(units) && utf16.DecodeRune(rune(units[i]), rune(units[i+1])) != utf8.RuneError:
				i++
			default:
				return "", fault.Because(ErrForm, "half of a surrogate pair at octet %d", 2*i)
			}
		}
		return string(utf16.Decode(units)), nil
	case Packed:
		septets := unpack(data, len(data)*8/7)
		if n := len(septets); n > 0 && n%8 == 0 && septets[n-1] == '\r' {
			septets = septets[:n-1]
		}
		return Alphabet{}.text(septets)
	}
	return "", fault.Because(ErrForm, "there is no form %q", form)
}

// EncodeHex writes a text in a form, in upper-case hexadecimal.
func EncodeHex(form Form, text string) (string, error) {
	data, err := Encode(form, text)
	return strings.ToUpper(hex.EncodeToString(data)), err
}

// DecodeHex reads back what [EncodeHex] wrote, in either case.
func DecodeHex(form Form, s string) (string, error) {
	data, err := hex.DecodeString(s)
	if err != nil {
		return "", fault.Because(ErrForm, "%w", err)
	}
	return Decode(form, data)
}

// Pack writes a text in septets of the alphabet, eight in seven octets, and
// says how many septets there are (TS 23.038 §6.1.2.1).
func (a Alphabet) Pack(text string) (octets []byte, septets int, err error) {
	s, err := a.septets(text)
	return pack(s), len(s), err
}

// Unpack reads back what Pack wrote.
func (a Alphabet) Unpack(octets []byte, septets int) (string, error) {
	if septets < 0 || (septets*7+7)/8 != len(octets) {
		return "", fault.Because(ErrForm, "%d septets are not %d octets", septets, len(octets))
	}
	return a.text(unpack(octets, septets))
}

func (a Alphabet) septets(text string) ([]byte, error) {
	t := a.table()
	out := make([]byte, 0, len(text))
	for i, r := range text {
		n := t.septets(r)
		if n == 0 {
			return nil, fault.Because(ErrForm, "%q (U+%04X) at byte %d is not in the GSM 7-bit %s", r, r, i, a)
		}
		if n == 2 {
			out = append(out, escape)
		}
		out = append(out, byte(t.code[r]))
	}
	return out, nil
}

func (a Alphabet) text(septets []byte) (string, error) {
	t := a.table()
	var b strings.Builder
	for i := 0; i < len(septets); i++ {
		from, code := &t.plain, septets[i]
		if code == escape && i+1 < len(septets) {
			i++
			from, code = &t.shifted, septets[i]
		}
		if from[code] == utf8.RuneError {
			return "", fault.Because(ErrForm, "septet %d, 0x%02X, is no character", i, code)
		}
		b.WriteRune(from[code])
	}
	return b.String(), nil
}

func pack(septets []byte) []byte {
	out := make([]byte, (len(septets)*7+7)/8)
	for i, s := range septets {
		at, shift := i*7/8, i*7%8
		out[at] |= s << shift
		if shift > 1 {
			out[at+1] |= s >> (8 - shift)
		}
	}
	return out
}

func unpack(octets []byte, n int) []byte {
	out := make([]byte, n)
	for i := range out {
		at, shift := i*7/8, i*7%8
		s := octets[at] >> shift
		if shift > 1 && at+1 < len(octets) {
			s |= octets[at+1] << (8 - shift)
		}
		out[i] = s & 0x7F
	}
	return out
}
