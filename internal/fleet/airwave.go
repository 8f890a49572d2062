package fleet

import (
	"fmt"
	"strings"
	"unicode/utf16"
)

// This file is the network between gateway and handset: texts are cut into
// short messages as octets, and handsets put them together again. It is
// written apart from internal/core, from the same standards, so that a mistake
// there shows on the practice phone.

// table is the GSM 7-bit default alphabet, sixteen characters a row (3GPP TS
// 23.038 §6.2.1). The escape stands as U+001B.
var table = []rune(strings.Join([]string{
	"@£$¥èéùìòÇ\nØø\rÅå",
	"Δ_ΦΓΛΩΠΨΣΘΞ\x1bÆæßÉ",
	" !\"#¤%&'()*+,-./",
	"0123456789:;<=>?",
	"¡ABCDEFGHIJKLMNO",
	"PQRSTUVWXYZÄÖÑÜ§",
	"¿abcdefghijklmno",
	"pqrstuvwxyzäöñüà",
}, ""))

// escaped are the characters behind the escape (§6.2.1.1).
var escaped = map[byte]rune{0x0A: '\f', 0x14: '^', 0x28: '{', 0x29: '}', 0x2F: '\\', 0x3C: '[', 0x3D: '~', 0x3E: ']', 0x40: '|', 0x65: '€'}

var toSeptets = func() map[rune][]byte {
	m := map[rune][]byte{}
	for code, r := range table {
		if r != 0x1b {
			m[r] = []byte{byte(code)}
		}
	}
	for code, r := range escaped {
		m[r] = []byte{0x1b, code}
	}
	return m
}()

// short is one short message on the air: a data coding and 140 octets of user
// data at most, the first ones a header if the text is in parts.
type short struct {
	from, to string
	wide     bool // UCS-2; else packed septets
	length   int  // septets or octets, header included
	data     []byte
	headed   bool // a user data header comes first
	call     bool // spoken over a voice call
	flash    bool // class 0
}

// cutUp cuts a text into short messages. reference tells texts of one sender
// apart (TS 23.040 §9.2.3.24.1).
func cutUp(from, to, text string, reference byte) []short {
	var pieces [][]byte // a piece is never cut: an escape pair, a surrogate pair
	wide := false
	for _, r := range text {
		septets, ok := toSeptets[r]
		if !ok {
			wide = true
			break
		}
		pieces = append(pieces, septets)
	}
	whole, part := 160, 153
	if wide {
		whole, part = 140, 134
		pieces = pieces[:0]
		for _, r := range text {
			var piece []byte
			for _, unit := range utf16.Encode([]rune{r}) {
				piece = append(piece, byte(unit>>8), byte(unit))
			}
			pieces = append(pieces, piece)
		}
	}
	total := 0
	for _, p := range pieces {
		total += len(p)
	}
	room := whole
	if total > whole {
		room = part
	}
	bodies := [][]byte{nil}
	for _, p := range pieces {
		last := len(bodies) - 1
		if len(bodies[last])+len(p) > room {
			bodies = append(bodies, nil)
			last++
		}
		bodies[last] = append(bodies[last], p...)
	}
	shorts := make([]short, len(bodies))
	for i, body := range bodies {
		s := short{from: from, to: to, wide: wide, headed: len(bodies) > 1}
		var header []byte
		if s.headed {
			header = []byte{5, 0, 3, reference, byte(len(bodies)), byte(i + 1)}
		}
		if wide {
			s.data = append(header, body...)
			s.length = len(s.data)
		} else {
			// With a header the text begins at the next septet boundary: one
			// bit after six octets.
			skip := (len(header)*8 + 6) / 7
			s.data = packSeptets(header, body, skip)
			s.length = skip + len(body)
		}
		shorts[i] = s
	}
	return shorts
}

// packSeptets packs septets behind a header that takes the room of skip
// septets (TS 23.038 §6.1.2.1).
func packSeptets(header, septets []byte, skip int) []byte {
	out := make([]byte, ((skip+len(septets))*7+7)/8)
	copy(out, header)
	for i, s := range septets {
		bit := (skip + i) * 7
		out[bit/8] |= s << (bit % 8)
		if over := bit%8 + 7 - 8; over > 0 {
			out[bit/8+1] |= s >> (7 - over)
		}
	}
	return out
}

func unpackSeptets(data []byte, skip, count int) []byte {
	septets := make([]byte, 0, count)
	for i := skip; i < skip+count; i++ {
		bit := i * 7
		s := data[bit/8] >> (bit % 8)
		if over := bit%8 + 7 - 8; over > 0 {
			s |= data[bit/8+1] << (7 - over)
		}
		septets = append(septets, s&0x7f)
	}
	return septets
}

// received is a short message as a handset reads it.
type received struct {
	text        string
	reference   byte
	part, parts int
}

// decode reads a short message.
func (s short) decode() (received, error) {
	r := received{part: 1, parts: 1}
	header := 0
	if s.headed {
		if len(s.data) < 6 || s.data[0] != 5 || s.data[1] != 0 || s.data[2] != 3 {
			return r, fmt.Errorf("header % x is not that of a concatenation", s.data[:min(6, len(s.data))])
		}
		header, r.reference, r.parts, r.part = 6, s.data[3], int(s.data[4]), int(s.data[5])
	}
	if s.wide {
		var units []uint16
		for i := header; i+1 < len(s.data); i += 2 {
			units = append(units, uint16(s.data[i])<<8|uint16(s.data[i+1]))
		}
		r.text = string(utf16.Decode(units))
		return r, nil
	}
	skip := (header*8 + 6) / 7
	var text strings.Builder
	septets := unpackSeptets(s.data, skip, s.length-skip)
	for i := 0; i < len(septets); i++ {
		if septets[i] != 0x1b {
			text.WriteRune(table[septets[i]])
			continue
		}
		i++
		if i < len(septets) {
			if c, ok := escaped[septets[i]]; ok {
				text.WriteRune(c)
			} else {
				text.WriteRune(table[septets[i]])
			}
		}
	}
	r.text = text.String()
	return r, nil
}
