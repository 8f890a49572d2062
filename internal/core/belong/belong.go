// Package belong works out what belongs together although nothing names it: claims about
// messages, of which a gateway tells only an id that nobody knows, and submissions whose id
// nobody told.
//
// A claim belongs to a submission only if there is no other way: in every way in which all
// claims that are connected with each other find a submission of their own, it is that one.
// Where there are more claims than submissions, at least one is about something else, and
// nothing is said of any. Before anything is said, the gateway has to have gone quiet.
package belong

import (
	"slices"
	"time"
)

// Line is what is said under one id of a gateway, in one receipt or several.
type Line struct {
	// Number and Text are what it names of the message; empty: not said.
	Number, Text string
	// Came is when the first of it came, by our clock, and Last when the last did.
	Came, Last time.Time
	// Speaks is the earliest moment of which it speaks, by our clock; zero: not said.
	Speaks time.Time
	// Sender is from whom its message was, as it names it; empty: not said.
	Sender string
	// NotOf are claimants that it does not belong to, by decision.
	NotOf []int
}

// Claimant is a submission of which nobody who names it has said how it ended.
type Claimant struct {
	Number, Text string // Text is empty where it is not known any more
	Sender       string
	Began        time.Time
	Moved        time.Time // when anything was last heard of it
	Sending      bool      // its answer is waited for
}

// Rule is how a gateway is looked at.
type Rule struct {
	// Window is how long after a submission began claims about it may come.
	Window time.Duration
	// Slack is how much earlier than a submission a claim about it may say that it
	// was: the roundness of the gateway's times and what its clock is not known by.
	Slack time.Duration
	// Quiet is the moment after which nothing may have been heard of what is judged.
	Quiet time.Time
}

// Verdict is what is known of a line.
type Verdict struct {
	Claimant int  // the only one it can belong to; -1: none is
	Rivals   int  // how many it may belong to
	Early    bool // something was heard too lately to judge
	Crowded  bool // there are more claims than submissions: at least one is about something else
}

// Fits reports whether a line may belong to a claimant.
func (r Rule) Fits(l Line, c Claimant) bool {
	switch {
	case l.Number != "" && l.Number != c.Number,
		l.Text != "" && c.Text != "" && l.Text != c.Text,
		l.Came.Before(c.Began),
		l.Came.Sub(c.Began) > r.Window,
		!l.Speaks.IsZero() && c.Began.Sub(l.Speaks) > r.Slack:
		return false
	}
	return true
}

// Judge works out what can only belong together. The result is the same for every order of
// lines and of claimants.
func Judge(lines []Line, claimants []Claimant, rule Rule) []Verdict {
	g := graph{
		edges: make([][]int, len(lines)),
		line:  make([]int, len(claimants)),
		of:    make([]int, len(lines)),
	}
	byNumber := map[string][]int{}
	for i, c := range claimants {
		g.line[i] = none
		byNumber[c.Number] = append(byNumber[c.Number], i)
	}
	var all []int
	for i := range claimants {
		all = append(all, i)
	}
	for i, l := range lines {
		g.of[i] = none
		among := all
		if l.Number != "" {
			among = byNumber[l.Number]
		}
		barred := map[int]bool{}
		for _, c := range l.NotOf {
			barred[c] = true
		}
		for _, c := range among {
			if !barred[c] && rule.Fits(l, claimants[c]) {
				g.edges[i] = append(g.edges[i], c)
			}
		}
	}
	for i := range lines {
		g.place(i, make([]bool, len(claimants)))
	}
	verdicts := make([]Verdict, len(lines))
	for _, part := range g.parts(len(claimants)) {
		early, crowded := false, false
		for _, i := range part.lines {
			early = early || lines[i].Last.After(rule.Quiet)
			crowded = crowded || g.of[i] == none
		}
		for _, c := range part.claimants {
			early = early || claimants[c].Sending || claimants[c].Moved.After(rule.Quiet)
		}
		for _, i := range part.lines {
			v := Verdict{Claimant: none, Rivals: len(g.edges[i]), Early: early, Crowded: crowded && len(g.edges[i]) > 0}
			if !early && !crowded && g.only(i, len(claimants)) {
				v.Claimant = g.of[i]
			}
			verdicts[i] = v
		}
	}
	return verdicts
}

const none = -1

// graph is which lines may belong to which claimants, and one way in which as many as can be
// belong together.
type graph struct {
	edges [][]int // of each line
	of    []int   // the claimant of each line
	line  []int   // the line of each claimant
}

// place finds a claimant for a line, moving others if need be.
func (g *graph) place(line int, seen []bool) bool {
	for _, c := range g.edges[line] {
		if seen[c] {
			continue
		}
		seen[c] = true
		if g.line[c] == none || g.place(g.line[c], seen) {
			g.line[c], g.of[line] = line, c
			return true
		}
	}
	return false
}

// only reports whether a line can be placed nowhere else, however the others are.
func (g *graph) only(line, claimants int) bool {
	trial := graph{edges: g.edges, of: slices.Clone(g.of), line: slices.Clone(g.line)}
	mine := g.of[line]
	trial.line[mine] = none // another line may move there
	seen := make([]bool, claimants)
	for _, c := range g.edges[line] {
		if c == mine || seen[c] {
			continue
		}
		seen[c] = true
		if trial.line[c] == none || trial.place(trial.line[c], seen) {
			return false
		}
	}
	return true
}

// part is what is connected.
type part struct{ lines, claimants []int }

// parts divides lines and claimants into what is connected with each other.
func (g *graph) parts(claimants int) []part {
	lines := make([][]int, claimants) // of each claimant
	for i, edges := range g.edges {
		for _, c := range edges {
			lines[c] = append(lines[c], i)
		}
	}
	seenLine, seen := make([]bool, len(g.edges)), make([]bool, claimants)
	var parts []part
	for i := range g.edges {
		if seenLine[i] {
			continue
		}
		seenLine[i] = true
		p := part{lines: []int{i}}
		for at := 0; at < len(p.lines); at++ {
			for _, c := range g.edges[p.lines[at]] {
				if seen[c] {
					continue
				}
				seen[c] = true
				p.claimants = append(p.claimants, c)
				for _, other := range lines[c] {
					if !seenLine[other] {
						seenLine[other] = true
						p.lines = append(p.lines, other)
					}
				}
			}
		}
		parts = append(parts, p)
	}
	return parts
}
