// Package optout knows the words with which people say that they do not want to be
// written to, or want it again.
package optout

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// Wish is what somebody asks for.
type Wish int

// What somebody may ask for.
const (
	Nothing Wish = iota
	Stop
	Start
)

// Of reads a wish from what somebody wrote: the word alone, in one of twenty languages,
// however it is written and whatever stands around it. A word within a sentence is
// none: "the ferry does not stop there" asks for nothing.
func Of(text string) Wish {
	const most = 60 // octets; more is no word
	folded := fold(text)
	switch {
	case folded == "" || len(folded) > most:
		return Nothing
	case stops[folded]:
		return Stop
	case starts[folded]:
		return Start
	}
	return Nothing
}

// fold makes a word comparable: small letters without accents, and nothing but letters
// and digits with single spaces between.
func fold(text string) string {
	if len(text) > 400 {
		return ""
	}
	var out strings.Builder
	for _, r := range norm.NFKD.String(strings.ToLower(text)) {
		switch {
		case unicode.Is(unicode.Mn, r) && r < 0x0600: // accents; marks of other scripts are letters
		case r == 'ς': // at the end of a word
			out.WriteRune('σ')
		case unicode.IsLetter(r), unicode.IsMark(r), unicode.IsDigit(r):
			out.WriteRune(r)
		default:
			out.WriteRune(' ')
		}
	}
	return strings.Join(strings.Fields(out.String()), " ")
}

// The words, a language a line: English, German, French, Spanish, Portuguese, Italian,
// Dutch, Danish and Norwegian, Swedish, Finnish, Polish, Czech, Greek, Turkish, Russian,
// Ukrainian, Hindi, Arabic, Japanese.
var (
	stops = set(`stop, stop all, stopall, unsubscribe, cancel, end, quit, opt out, optout, remove, remove me, stop it, please stop, no more,
		stopp, stoppen, abmelden, abbestellen, aufhoren, keine sms mehr, bitte stopp,
		arret, arreter, desabonner, desinscrire, annuler, fin, stop sms,
		parar, alto, baja, cancelar, detener, darse de baja, no mas,
		sair, pare, remover, descadastrar,
		ferma, basta, annulla, disiscrivi, cancella, cancellami,
		afmelden, uitschrijven, stoppen aub, geen sms meer,
		afmeld, frameld, stopp meldinger, avmeld,
		avsluta, avregistrera, sluta,
		lopeta, peruuta, seis,
		koniec, rezygnuje, wypisz, anuluj, przestan,
		konec, zrusit, odhlasit, prestante,
		τελος, διακοπη, σταματα, σταματηστε, διαγραφη, στοπ,
		dur, iptal, ret, durdur, cikis,
		стоп, отписаться, отмена, хватит, отписка,
		зупинити, відписатися, досить, скасувати,
		रोकें, रुको, बंद, बंद करो, बंद करें, स्टॉप,
		توقف, قف, ايقاف, الغاء, إيقاف, إلغاء,
		停止, 配信停止, ストップ, 解除, やめて`)
	starts = set(`start, unstop, subscribe, resume, opt in, optin,
		anmelden, starten, wieder anmelden,
		demarrer, reprendre, abonner, sabonner,
		iniciar, comenzar, alta, suscribir, reanudar, empezar,
		comecar, inscrever,
		inizia, avvia, iscrivi, iscrivimi, riprendi,
		aanmelden, inschrijven,
		tilmeld, pameld,
		starta, anmal,
		aloita, jatka, tilaa,
		zapisz, wznow, zacznij,
		zacit, prihlasit, obnovit,
		εναρξη, εγγραφη, ξεκινα, σταρτ,
		basla, baslat, katil, devam,
		старт, подписаться, начать,
		почати, підписатися,
		शुरू, शुरू करें, चालू, स्टार्ट,
		ابدأ, اشترك, بدء,
		開始, 再開, 登録, スタート`)
)

func set(words string) map[string]bool {
	all := map[string]bool{}
	for word := range strings.SplitSeq(words, ",") {
		all[fold(word)] = true
	}
	return all
}
