package passcode

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// texts are what is sent where no template is named: {code}, and {minutes} for which it holds. Each fits into one
// segment, also with the line that binds it.
var texts = map[string]string{
	"ar": "{code} هو رمزك. صالح لمدة {minutes} دقائق. لا تعطه لأحد.",
	"cs": "{code} je vas kod. Plati {minutes} min. Nikomu ho nesdelujte.",
	"da": "{code} er din kode. Den gælder i {minutes} min. Giv den ikke til nogen.",
	"de": "{code} ist Ihr Code. Er gilt {minutes} Min. Geben Sie ihn niemandem.",
	"el": "{code} είναι ο κωδικός σας. Ισχύει {minutes} λεπτά. Μην τον δώσετε.",
	"en": "{code} is your code. It is good for {minutes} min. Give it to nobody.",
	"es": "{code} es su codigo. Vale {minutes} min. No se lo de a nadie.",
	"fi": "{code} on koodisi. Se on voimassa {minutes} min. Älä anna sitä kenellekään.",
	"fr": "{code} est votre code. Il est valable {minutes} min. Ne le donnez à personne.",
	"hi": "{code} आपका कोड है। यह {minutes} मिनट तक मान्य है। किसी को न दें।",
	"hu": "{code} az On kodja. {minutes} percig ervenyes. Ne adja meg senkinek.",
	"it": "{code} è il suo codice. Vale {minutes} min. Non lo dia a nessuno.",
	"nb": "{code} er koden din. Den gjelder i {minutes} min. Gi den ikke til noen.",
	"nl": "{code} is uw code. Hij geldt {minutes} min. Geef hem aan niemand.",
	"pl": "{code} to Twój kod. Jest ważny {minutes} min. Nie podawaj go nikomu.",
	"pt": "{code} é o seu código. Vale {minutes} min. Não o dê a ninguém.",
	"ro": "{code} este codul dvs. Este valabil {minutes} min. Nu il dati nimanui.",
	"sv": "{code} är din kod. Den gäller i {minutes} min. Ge den inte till någon.",
	"tr": "{code} kodunuz. {minutes} dk gecerlidir. Kimseye vermeyin.",
	"uk": "{code} – ваш код. Діє {minutes} хв. Нікому його не кажіть.",
}

// Languages are those in which there is a text (BCP 47).
func Languages() []string { return slices.Sorted(maps.Keys(texts)) }

// Text is what is sent in a language where no template is named; in English where there is none in it, or in what it is
// a dialect of. lang tells in which it is.
func Text(language, code string, life time.Duration) (text, lang string) {
	base, _, _ := strings.Cut(strings.ToLower(strings.ReplaceAll(language, "_", "-")), "-")
	if base == "no" || base == "nn" {
		base = "nb"
	}
	form, ok := texts[base]
	if !ok {
		base, form = "en", texts["en"]
	}
	return strings.NewReplacer("{code}", code, "{minutes}", Minutes(life)).Replace(form), base
}

// Minutes is a life in whole minutes, as it stands in a text: what lasts a little more is not promised.
func Minutes(life time.Duration) string { return fmt.Sprint(max(int(life/time.Minute), 1)) }

// Bound is a text with a last line that lets a phone fill the code in on the pages of a domain, and nowhere else
// (origin-bound one-time codes, WICG).
func Bound(text, domain, code string) string { return text + "\n\n@" + domain + " #" + code }

// ForApp is a text with a last line by which an app on the phone knows that it is meant: the hash of the app.
func ForApp(text, hash string) string { return text + "\n\n" + hash }

// Domain checks the name of a host that codes are bound to.
func Domain(name string) bool {
	if len(name) > 253 || !strings.Contains(name, ".") {
		return false
	}
	for label := range strings.SplitSeq(name, ".") {
		if label == "" || len(label) > 63 || label[0] == '-' || label[len(label)-1] == '-' ||
			strings.Trim(label, "abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
			return false
		}
	}
	return true
}

// AppHash checks the hash of an app: eleven characters of base64.
func AppHash(hash string) bool {
	return len(hash) == 11 && strings.Trim(hash, "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/") == ""
}
