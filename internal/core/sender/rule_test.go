
// Between two moments that Hours names nothing changes, and it says the same as QuietUntil.
func TestHoursHold(t *testing.T) {
	t.Parallel()
	bulk := []pace.Kind{pace.Bulk}
	for _, r := range []Rule{
		{Quiet: []Quiet{{Kinds: bulk, From: "21:00", To: "08:00"}}},
		{Quiet: []Quiet{{Kinds: bulk, From: "20:00", To: "08:00", Days: []string{"Sun"}}}},
		{Quiet: []Quiet{{Kinds: bulk, From: "12:00", To: "13:30"}, {Kinds: bulk, From: "22:15", To: "06:45"}}},
		{Quiet: []Quiet{{Kinds: []pace.Kind{pace.Transactional}, From: "00:00", To: "23:59"}}},
	} {
		zones := []string{"America/New_York", "America/Los_Angeles"}
		at := time.Date(2026, 10, 23, 0, 7, 0, 0, time.UTC) // over the end of summer time
		for end := at.AddDate(0, 0, 14); at.Before(end); {
			open, until := r.Hours(pace.Bulk, zones, at)
			if until.IsZero() {
				if !open {
					t.Fatalf("%+v: quiet for good at %v", r.Quiet, at)
				}
				break
			}
			if !until.After(at) {
				t.Fatalf("%+v: at %v until %v", r.Quiet, at, until)
			}
			for probe := at; probe.Before(until) && probe.Before(end); probe = probe.Add(11 * time.Minute) {
				if ends, _ := r.QuietUntil(pace.Bulk, zones, probe); open == ends.After(probe) {
					t.Fatalf("%+v: at %v open is %v until %v, and at %v it is not", r.Quiet, at, open, until, probe)
				}
			}
			at = until
		}
	}
}
