package phone

import (
	"strings"
	"sync"

	"golang.org/x/text/language"
	"golang.org/x/text/language/display"
)

// spoken are the languages in which countries are known by name.
var spoken = []language.Tag{
	language.English,
	language.German,
	language.French,
	language.Spanish,
	language.Portuguese,
	language.Italian,
	language.Dutch,
	language.Danish,
	language.Norwegian,
	language.Swedish,
	language.Finnish,
	language.Polish,
	language.Czech,
	language.Slovak,
	language.Hungarian,
	language.Romanian,
	language.Croatian,
	language.Greek,
	language.Turkish,
	language.Russian,
	language.Ukrainian,
	language.Bulgarian,
	language.Hindi,
	language.Arabic,
	language.Japanese,
}

// named are the codes of countries by their names, in small letters.
var named = sync.OnceValue(func() map[string]string {
	codes := map[string]string{}
	for _, tag := range spoken {
		names := display.Regions(tag)
		for _, code := range Countries() {
			region, err := language.ParseRegion(code)
			if err != nil || names == nil {
				continue
			}
			if name := strings.ToLower(names.Name(region)); name != "" && codes[name] == "" {
				codes[name] = code
			}
		}
	}
	return codes
})

// CountryNamed is the code of the country that has a name, in one of 25 languages;
// empty if none has.
func CountryNamed(name string) string {
	return named()[strings.ToLower(strings.TrimSpace(name))]
}
