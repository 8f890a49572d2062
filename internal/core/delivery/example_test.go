package delivery_test

import (
	"fmt"
	"time"

	"calmpigeon.example/internal/core/delivery"
)

// Whatever the order in which facts come, they make the same of a message.
func ExampleFold() {
	noon := time.Date(2026, 11, 15, 12, 0, 0, 0, time.UTC)
	outcome := delivery.Fold([]delivery.Evidence{
		{Source: delivery.Receipt, Claim: delivery.Delivered, Attempt: 1, GatewayAt: noon},
		{Source: delivery.Own, Claim: delivery.Sending, Attempt: 1},
		{Source: delivery.Reply, Claim: delivery.Accepted, Attempt: 1, GatewayRef: "g-20069-5"},
	})
	fmt.Println(outcome.State, outcome.GatewayRef)
	// Output: delivered g-20069-5
}

// A digest is kept with a message, and takes one fact after the other; what says
// the same again is no news.
func ExampleDigest_Note() {
	var d delivery.Digest
	d.Note(delivery.Evidence{Source: delivery.Own, Claim: delivery.Sending, Attempt: 1})
	receipt := delivery.Evidence{Source: delivery.Receipt, Claim: delivery.Undeliverable, Cause: delivery.Absent, Attempt: 1}
	fmt.Println(d.Note(receipt), d.Note(receipt))
	fmt.Println(d.Outcome().State, d.Outcome().Cause)
	// Output:
	// true false
	// undeliverable absent
}
