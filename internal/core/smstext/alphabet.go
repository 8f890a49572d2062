package smstext

// basic is the GSM 7-bit default alphabet in the order of its codes
// (TS 23.038 §6.2.1). Position 0x1B, the escape, is no character of a text.
const basic = "@£$¥èéùìòÇ\nØø\rÅåΔ_ΦΓΛΩΠΨΣΘΞ\x1bÆæßÉ" +
	" !\"#¤%&'()*+,-./0123456789:;<=>?" +
	"¡ABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§" +
	"¿abcdefghijklmnopqrstuvwxyzäöñüà"

// extended are the characters reached by an escape (TS 23.038 §6.2.1.1).
const extended = "\f^{}\\[~]|€"

// cost holds the septets of every character below its length.
var cost = func() (table [0x20AD]uint8) {
	for _, r := range basic {
		table[r] = 1
	}
	for _, r := range extended {
		table[r] = 2
	}
	table[0x1b] = 0
	return table
}()

// septets is what a character takes in GSM 7-bit; 0 if it is not in it.
func septets(r rune) int {
	if uint32(r) < uint32(len(cost)) {
		return int(cost[r])
	}
	return 0
}
