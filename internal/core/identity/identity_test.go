package identity

import "testing"

// Every way in which a database can come to be another, or to lack something.
func TestJudge(t *testing.T) {
	t.Parallel()
	live := Live{System: "1", Timeline: 1, Database: 10, Row: 500, Address: "a:5432/pigeon"}
	noted := Noted(live)
	memory := Memory{System: "1", Database: 10}
	behind := memory
	behind.Behind = 3
	folder := memory
	folder.Moved = true
	with := func(change func(*Live)) Live { l := live; change(&l); return l }
	promoted := with(func(l *Live) { l.Timeline = 2 })
	moved := with(func(l *Live) { l.Address = "b:5432/pigeon" })
	both := with(func(l *Live) { l.Timeline, l.Address = 2, "b:5432/pigeon" })
	for name, tt := range map[string]struct {
		Case
		want Reason
		note bool
	}{
		"a new database":                                     {Case{Live: live}, "", true},
		"one of a version that wrote no note":                {Case{Live: live, Used: true}, "", true},
		"an empty one, where there was one before":           {Case{Live: live, Memory: &memory}, "", true},
		"a dump of such a version":                           {Case{Live: live, Memory: &memory, Used: true}, Copied, false},
		"a restart":                                          {Case{Live: live, Noted: &noted, Memory: &memory, Used: true}, "", false},
		"a container without a data folder":                  {Case{Live: live, Noted: &noted, Used: true}, "", false},
		"the database moved to another host":                 {Case{Live: moved, Noted: &noted, Memory: &memory, Used: true}, "", true},
		"it moved, and so did the data folder":               {Case{Live: moved, Noted: &noted, Memory: &folder, Used: true}, Cloned, false},
		"a dump in another cluster":                          {Case{Live: with(func(l *Live) { l.System = "2" }), Noted: &noted, Used: true}, Copied, false},
		"a dump in another database":                         {Case{Live: with(func(l *Live) { l.Database = 11 }), Noted: &noted, Memory: &memory, Used: true}, Copied, false},
		"a dump in the same database":                        {Case{Live: with(func(l *Live) { l.Row = 900 }), Noted: &noted, Used: true}, Copied, false},
		"a base backup of an earlier moment":                 {Case{Live: promoted, Noted: &noted, Memory: &behind, Used: true}, Rewound, false},
		"a snapshot of an earlier moment":                    {Case{Live: live, Noted: &noted, Memory: &behind, Used: true}, Rewound, false},
		"a base backup, and nothing is remembered":           {Case{Live: promoted, Noted: &noted, Used: true}, Promote, false},
		"a clone beside the original":                        {Case{Live: moved, Noted: &noted, Used: true}, Cloned, false},
		"a clone that was promoted":                          {Case{Live: both, Noted: &noted, Used: true}, Promote, false},
		"a clone with a copy of the data folder":             {Case{Live: both, Noted: &noted, Memory: &folder, Used: true}, Promote, false},
		"a synchronous failover":                             {Case{Live: both, Noted: &noted, Memory: &memory, Used: true}, "", true},
		"an asynchronous failover that lost something":       {Case{Live: both, Noted: &noted, Memory: &behind, Used: true}, Rewound, false},
		"a failover while no instance ran":                   {Case{Live: promoted, Noted: &noted, Memory: &memory, Used: true}, "", true},
		"an instance that joins others after a failover":     {Case{Live: both, Noted: &noted, Alive: true, Used: true}, "", true},
		"an instance that joins others, and lacks something": {Case{Live: live, Noted: &noted, Memory: &behind, Alive: true, Used: true}, Rewound, false},
		"a copied folder that lacks something":               {Case{Live: live, Noted: &noted, Memory: &Memory{"1", 10, 1, true}, Used: true}, Rewound, false},
		"what is remembered is of another database":          {Case{Live: live, Noted: &noted, Memory: &Memory{"7", 10, 9, false}, Used: true}, "", false},
	} {
		got := Judge(tt.Case)
		if got.Reason != tt.want || got.Note != tt.note || got.Quarantine() != (tt.want != "") || (got.Why == "") != (tt.want == "") {
			t.Errorf("%s: %+v, want %q and note %v", name, got, tt.want, tt.note)
		}
	}
}
