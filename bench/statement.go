package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"time"

	"calmpigeon.example/client"
)

// statementMillion takes a gateway's list of a million lines in and matches it with a million messages: most agree,
// one in two hundred differs, one in five hundred is missing on either side.
func statementMillion(ctx context.Context, s settings) ([]Figure, error) {
	n := s.count(1_000_000)
	h, err := build(ctx, s)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	if err := h.gateway(ctx, single, newGateway()); err != nil {
		return nil, err
	}
	if err := h.past(ctx, n); err != nil {
		return nil, err
	}
	h.stop() // what it had before it need not have for this
	if err := h.start(s); err != nil {
		return nil, err
	}
	var took, read time.Duration
	var one client.Statement
	err = h.profiled(s, func() error {
		began := time.Now()
		t, err := h.Client.TakeStatement(ctx, statementFile(n), client.StatementHint{Gateway: "single", File: "list.csv"})
		if err != nil {
			return err
		}
		read = time.Since(began)
		for one.State != "done" {
			time.Sleep(50 * time.Millisecond)
			if one, err = h.Client.Statement(ctx, t.Statement.ID); err != nil {
				return err
			}
		}
		took = time.Since(began)
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("%w\n%s", err, h.said())
	}
	if h := one.Heaps; h.State != int64(n/200) || h.Agrees+h.Theirs != int64(n-n/200) || h.Ours > h.Theirs ||
		h.Ours < h.Theirs-2 { // at the very ends
		return nil, fmt.Errorf("%s", one.Heaps.Equation)
	}
	mb, err := h.peak()
	return []Figure{
		{Name: "statement_million", Value: took.Seconds(), Unit: "s", Asked: "60 s at most",
			Note: fmt.Sprintf("%s; %.1f s of it reading", one.Heaps.Equation, read.Seconds())},
		{Name: "statement_million_memory", Value: mb, Unit: "MB", Asked: "300 MB at most"},
	}, err
}

// statementFile is a list as a gateway keeps it, as it is read.
func statementFile(n int) io.Reader {
	out, in := io.Pipe()
	go func() {
		w := bufio.NewWriterSize(in, 1<<16)
		fmt.Fprintln(w, "message id;to;sent;parts;status")
		from := time.Now().Add(-20 * 24 * time.Hour)
		for i := 1; i <= n; i++ {
			id, state := fmt.Sprintf("g-%d", i), "delivered"
			switch r := i % 100; {
			case r >= 99:
				state = "rejected"
			case r == 98:
				state = "accepted"
			case r >= 94:
				state = "undeliverable"
			}
			switch {
			case i%500 == 3:
				id = fmt.Sprintf("x-%d", i) // of somebody else
			case i%200 == 7:
				state = "expired"
			}
			at := from.Add(time.Duration(i) * (20 * 24 * time.Hour / time.Duration(n)))
			fmt.Fprintf(w, "%s;%d;%s;1;%s\n", id, 447700900000+i%1000, at.UTC().Format("2006-01-02 15:04:05"), state)
		}
		in.CloseWithError(w.Flush())
	}()
	return out
}
