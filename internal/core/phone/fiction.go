package phone

// reserved is a range that a regulator reserves for fiction. Nobody answers
// there; numbering plans call it unassigned, or like any other.
type reserved struct {
	from, to string
	country  string // empty: what the plan says
	line     Line
	by       string
}

var fictional = []reserved{
	{"+447700900000", "+447700900999", "GB", Mobile, "Ofcom"},
	{"+442079460000", "+442079460999", "GB", Fixed, "Ofcom"},
	{"+441632960000", "+441632960999", "GB", Fixed, "Ofcom"},
	{"+448081570000", "+448081570999", "GB", SpecialRate, "Ofcom"},
	{"+449098790000", "+449098790999", "GB", SpecialRate, "Ofcom"},
	{"+33639980000", "+33639989999", "FR", Mobile, "Arcep"},
	{"+33199000000", "+33199009999", "FR", Fixed, "Arcep"},
	{"+46701740605", "+46701740699", "SE", Mobile, "PTS"},
	{"+61491570006", "+61491570006", "AU", Mobile, "ACMA"},
	{"+61491570110", "+61491570110", "AU", Mobile, "ACMA"},
	{"+61491570156", "+61491570159", "AU", Mobile, "ACMA"},
	{"+353209100000", "+353209199999", "IE", Mobile, "ComReg"},
	{"+491713920000", "+491713920099", "DE", Mobile, "Bundesnetzagentur"},
	{"+493023125000", "+493023125999", "DE", Fixed, "Bundesnetzagentur"},
}

// fiction finds the reserved range a number is in. The 555-01xx of every area
// of the North American plan have a place but no country of their own.
func fiction(n Number) (reserved, bool) {
	if len(n.e164) == 12 && n.e164[:2] == "+1" && n.e164[5:10] == "55501" {
		return reserved{line: Either, by: "NANPA"}, true
	}
	for _, r := range fictional {
		if len(n.e164) == len(r.from) && n.e164 >= r.from && n.e164 <= r.to {
			return r, true
		}
	}
	return reserved{}, false
}
