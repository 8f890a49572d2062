package dialect

import (
	"strings"
)

// Divide gives the items of a reply to the messages of the request, in their
// order: by our reference, by the gateway's id, by place, or by number, with
// whatever an item has, in this order. An item with none of them speaks of the
// only message there is, or, if it is the only item, of all. What speaks of no
// message of the request is left over.
func (d *Dialect) Divide(items []Item, messages []Message) (each [][]Item, over []Item) {
	each = make([][]Item, len(messages))
	byID, byRef, byNumber := map[string]int{}, map[string]int{}, map[string]int{}
	for i, m := range messages {
		byID[m.ID] = i
		if m.GatewayRef != "" {
			byRef[m.GatewayRef] = i
		}
		byNumber[bare(d.Number.write(m.To))] = i
		byNumber[m.To.Digits()] = i
	}
	for _, item := range items {
		at, known := -1, false
		find := func(table map[string]int, key string) {
			if i, ok := table[key]; ok && key != "" {
				at, known = i, true
			}
		}
		find(byID, item.Reference)
		if !known {
			find(byRef, item.GatewayRef)
		}
		if !known && item.Reference == "" && item.Index > 0 && item.Index <= len(messages) {
			at, known = item.Index-1, true
		}
		if !known && item.Reference == "" && item.Index == 0 {
			find(byNumber, bare(item.To))
		}
		nameless := item.Nameless() && (item.GatewayRef == "" || len(byRef) == 0)
		switch {
		case known:
			each[at] = append(each[at], item)
		case nameless && len(messages) == 1:
			each[0] = append(each[0], item)
		case nameless && len(items) == 1:
			for i := range each {
				each[i] = append(each[i], item)
			}
		default:
			over = append(over, item)
		}
	}
	return each, over
}

// Nameless reports whether an item of a reply does not say of which message it
// speaks; the gateway's own id is new to us.
func (i Item) Nameless() bool { return i.Reference == "" && i.To == "" && i.Index == 0 }

// bare is a number without what gateways write around it.
func bare(number string) string {
	return strings.TrimPrefix(strings.TrimLeft(strings.TrimPrefix(strings.TrimSpace(number), "tel:"), "+ "), "00")
}
