package statement

import (
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"calmpigeon.example/internal/core/phone"
)

// heads are what columns are called, folded: the words of several languages that stand for a role as a whole,
// and those that do as a part of a name.
var heads = map[Role]struct{ whole, part []string }{
	ID: {list("id, message id, msgid, messageid, msg id, sms id, provider id, gateway id, id du message, nachrichten id, id mensaje, uuid"),
		list("messageid, msgid")},
	Reference: {list("reference, ref, client reference, client ref, your reference, external id, correlator, client id, custom id, tag, " +
		"referenz, kundenreferenz, référence, referencia, riferimento"), list("reference, referenz, correlator")},
	Number: {
		list("to, number, recipient, destination, msisdn, phone, mobile, destination address, to number, phone number, da, empfänger, " +
			"rufnummer, destinataire, numéro, destinatario, número, numero, telefon"),
		list("recipient, destination, msisdn, empfänger, destinataire"),
	},
	Sender: {list("from, sender, sender id, source, originator, source address, oa, absender, expéditeur, remitente, mittente"),
		list("sender, originator, absender")},
	At: {list("at, date, time, sent, sent at, date sent, timestamp, datetime, submitted, submit time, created, created at, zeit, datum, " +
		"zeitpunkt, date denvoi, fecha, data"), list("date, time, sent, submitted, datum, fecha")},
	Status: {list("status, state, result, delivery status, dlr, stat, outcome, code, zustand, statut, état, estado, stato"),
		list("status, state, dlr, statut, estado")},
	Segments: {list("parts, segments, sms count, messages, units, part count, teile, anzahl, segmente, segmentos, nb sms, count, quantity"),
		list("parts, segments, segmente, teile")},
	Charge: {list("price, cost, charge, amount, total, preis, kosten, betrag, prix, coût, montant, precio, coste, importe, prezzo, costo"),
		list("price, cost, charge, amount, preis, kosten, betrag, prix, precio, prezzo")},
	Currency: {list("currency, ccy, iso, währung, devise, moneda, valuta"), list("currency, währung")},
}

func list(s string) []string {
	words := strings.Split(s, ",")
	for i := range words {
		words[i] = folded(words[i])
	}
	return words
}

// folded makes a name comparable: small letters without accents, single spaces between words.
func folded(name string) string {
	var out strings.Builder
	for _, r := range norm.NFD.String(strings.ToLower(name)) {
		switch {
		case unicode.Is(unicode.Mn, r):
		case unicode.IsLetter(r), unicode.IsDigit(r):
			out.WriteRune(r)
		default:
			out.WriteRune(' ')
		}
	}
	return strings.Join(strings.Fields(out.String()), " ")
}

// enough is how many of the cells that are filled have to be of a kind.
const enough = 0.8

// Propose says how a file is most likely read, by the names of its columns and its first lines. There is one
// column of each role at most, and each has one role at most.
func Propose(head []string, first [][]string, codes Codes) Mapping {
	m := Mapping{Columns: map[Role]string{}}
	taken := make([]bool, len(head))
	cells := make([][]string, len(head))
	for i := range head {
		for _, row := range first {
			if i < len(row) && strings.TrimSpace(row[i]) != "" {
				cells[i] = append(cells[i], strings.TrimSpace(row[i]))
			}
		}
	}
	is := map[Role]func(string) bool{
		Number: isNumber,
		At: func(s string) bool {
			_, days := ParseTime(s, time.UTC, false)
			_, months := ParseTime(s, time.UTC, true)
			return days || months
		},
		Status: func(s string) bool {
			_, _, known := codes(s)
			_, word := Word(s)
			return known || word
		},
		Segments: func(s string) bool { return len(s) <= 3 && strings.Trim(s, "0123456789") == "" },
		Charge: func(s string) bool {
			_, point := ParseAmount(s, false)
			_, comma := ParseAmount(s, true)
			return point || comma
		},
		Currency: func(s string) bool {
			return len(s) == 3 && strings.ToUpper(s) == s && strings.Trim(s, "ABCDEFGHIJKLMNOPQRSTUVWXYZ") == ""
		},
	}
	for _, role := range Roles {
		best, most := -1, 0.0
		for i, name := range head {
			if taken[i] {
				continue
			}
			held := 1.0
			if is[role] != nil && len(cells[i]) > 0 {
				held = share(cells[i], is[role])
			}
			score := 0.0
			f := folded(name)
			switch {
			case held < enough:
			case slices.Contains(heads[role].whole, f):
				score = 3 + held
			case slices.ContainsFunc(heads[role].part, func(w string) bool { return slices.Contains(strings.Fields(f), w) }):
				score = 2 + held
			case (role == Number || role == At) && len(cells[i]) > 0: // what stands there is enough
				score = held
			}
			if score > most {
				best, most = i, score
			}
		}
		if best >= 0 {
			taken[best] = true
			m.Columns[role] = head[best]
		}
	}
	for i, name := range head {
		switch name {
		case m.Columns[Charge]:
			m.Comma = share(cells[i], func(s string) bool { return fraction.MatchString(s) && strings.Contains(s, ",") }) > 0.5
			if m.Columns[Currency] == "" {
				for word := range strings.FieldsSeq(name) {
					if is[Currency](word) {
						m.Currency = word
					}
				}
			}
		case m.Columns[At]:
			days := share(cells[i], func(s string) bool { _, ok := ParseTime(s, time.UTC, false); return ok })
			months := share(cells[i], func(s string) bool { _, ok := ParseTime(s, time.UTC, true); return ok })
			m.MonthFirst = months > days
		}
	}
	return m
}

// fraction is an amount that ends in a fraction after a comma, as one grouped by commas does not.
var fraction = regexp.MustCompile(`,\d{1,2}$|,\d{4,6}$|^0,\d+`)

func share(cells []string, is func(string) bool) float64 {
	if len(cells) == 0 {
		return 0
	}
	n := 0
	for _, c := range cells {
		if is(c) {
			n++
		}
	}
	return float64(n) / float64(len(cells))
}

// isNumber reports whether a cell is a telephone number as gateways write them, most without the plus.
func isNumber(s string) bool {
	s = strings.TrimPrefix(s, "tel:")
	if n := len(s); n < 8 || n > 20 || strings.Trim(s, "+0123456789 -()") != "" {
		return false
	}
	if !strings.HasPrefix(s, "+") && !strings.HasPrefix(s, "0") {
		s = "+" + s
	}
	if strings.HasPrefix(s, "0") && !strings.HasPrefix(s, "00") {
		return true // as it is dialled in some country
	}
	_, err := phone.Read(s, "")
	return err == nil
}
