package locale

// languageIDs are the numbers by which workbooks name languages, without their regions (ISO/IEC 29500-1, 18.8.31, as
// Windows has them: MS-LCID, 2.2).
var languageIDs = map[int]string{
	0x01: "ar", 0x02: "bg", 0x04: "zh", 0x05: "cs", 0x06: "da", 0x07: "de", 0x08: "el", 0x09: "en", 0x0a: "es", 0x0b: "fi", 0x0c: "fr",
	0x0d: "he", 0x0e: "hu", 0x0f: "is", 0x10: "it", 0x11: "ja", 0x12: "ko", 0x13: "nl", 0x14: "nb", 0x15: "pl", 0x16: "pt", 0x18: "ro",
	0x19: "ru", 0x1a: "hr", 0x1b: "sk", 0x1d: "sv", 0x1e: "th", 0x1f: "tr", 0x21: "id", 0x22: "uk", 0x24: "sl", 0x25: "et", 0x26: "lv",
	0x27: "lt", 0x2a: "vi", 0x39: "hi",
}

// OfLanguageID is the locale of a language by the number that workbooks name it by.
func OfLanguageID(id int) (*Locale, bool) {
	switch id {
	case 0x0409:
		return Find("en-US")
	case 0x0416:
		return Find("pt-BR")
	}
	tag, ok := languageIDs[id&0x3ff]
	if !ok {
		return nil, false
	}
	return Find(tag)
}
