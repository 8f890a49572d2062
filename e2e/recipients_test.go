package e2e

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"calmpigeon.example/client"
	"github.com/chromedp/chromedp"
)

// A list is kept with fields and groups, a number once; saved again it changes what is otherwise,
// and a batch is made of a part of it.
func TestRecipientLists(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	save := func(sheet string, hint client.SaveHint) (client.RecipientsSaved, error) {
		return h.Client.SaveRecipients(t.Context(), "passengers", strings.NewReader(sheet), hint)
	}
	const first = "Name;Handy;Fähre;Gruppe\nAnn;07700 900101;07:10;islanders\nBo;+447700900102;07:20;islanders, crew\n" +
		"Cy;nobody;;\nDi;07700 900103;;\nAnn;+44 7700 900101;07:10;\n"
	if _, err := save(first, client.SaveHint{Country: "GB", DryRun: true}); err != nil {
		t.Fatal(err)
	}
	if lists := must[[]client.RecipientList](t)(h.Client.RecipientLists(t.Context())); len(lists) != 0 {
		t.Errorf("a dry run kept %+v", lists)
	}
	s := must[client.RecipientsSaved](t)(save(first, client.SaveHint{Country: "GB"}))
	if s.Rows != 5 || s.Added != 3 || s.Same != 1 || s.LeftOut != 1 || s.Left[0].Line != 4 || s.List.Rows != 3 ||
		!strings.Contains(s.Left[0].Why, "letter") || s.Recognised != "CSV with semicolons, in utf-8" {
		t.Errorf("saved first: %+v", s)
	}
	// Another sheet, which calls its columns otherwise, changes one and adds one.
	s = must[client.RecipientsSaved](t)(save("phone,Name,seat\n+447700900102,Bob,4\n+447700900104,Ed,5\n+447700900101,Ann,\n",
		client.SaveHint{Groups: []string{"window"}}))
	if s.Added != 1 || s.Changed != 2 || s.Same != 0 || s.List.Rows != 4 {
		t.Errorf("saved second: %+v", s)
	}
	s = must[client.RecipientsSaved](t)(save(first, client.SaveHint{Country: "GB"}))
	if s.Added != 0 || s.Changed != 1 || s.Same != 3 { // Bo is called Bob, and now Bo again
		t.Errorf("saved again: %+v", s)
	}
	l := must[client.RecipientList](t)(h.Client.RecipientList(t.Context(), "passengers"))
	if fmt.Sprint(l.Groups) != "[{crew 1} {islanders 2} {window 3}]" || len(l.Columns) != 4 || l.Columns[1].Role != "to" {
		t.Errorf("the list: %+v", l)
	}
	one := must[client.List[client.ListedRecipient]](t)(h.Client.Recipients(t.Context(), "passengers", "", "+447700900102", "", 0)).Items
	if len(one) != 1 || fmt.Sprint(one[0].Fields) != "map[Fähre:07:20 Handy:+447700900102 Name:Bo seat:4]" ||
		fmt.Sprint(one[0].Groups) != "[crew islanders window]" {
		t.Errorf("one of them: %+v", one)
	}

	const text = "Dear {Name}, seat {seat|free} at {Fähre|any time}"
	b := must[client.Batch](t)(h.Client.NewBatch(t.Context(), client.BatchWants{Text: text}))
	from := client.Invitation{List: "passengers", Groups: []string{"islanders", "window"}, Without: []string{"crew"}}
	done := must[client.BatchAppended](t)(h.Client.Invite(t.Context(), b.ID, from))
	zero := 0
	from.At = &zero
	again := must[client.BatchAppended](t)(h.Client.Invite(t.Context(), b.ID, from))
	if done.Rows != 2 || again.Rows != 2 || again.Already != 2 ||
		done.Batch.Recognised != `the list "passengers", of islanders or window, without crew` {
		t.Errorf("invited: %+v, again %+v", done, again)
	}
	b = h.rehearsed(b.ID)
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), b.ID, client.Launch{}))
	h.batchWhen(b.ID, "it has come to its end", finished)
	rows := must[[][]string](t)(csv.NewReader(bytes.NewReader(bytes.TrimPrefix(h.result(b.ID, ""), []byte("\ufeff")))).ReadAll())
	if got := fmt.Sprint(rows[0][:5], rows[1][:5], rows[2][:5]); got !=
		"[Name Handy Fähre seat pigeon state] [Ann +447700900101 07:10  delivered] [Ed +447700900104  5 delivered]" {
		t.Errorf("the result: %s", got)
	}
	for what, i := range map[string]client.Invitation{
		"There is no list of recipients nowhere. Known are passengers.": {List: "nowhere"},
		"nobody on the list is meant":                                   {List: "passengers", Groups: []string{"pilots"}},
	} {
		open := must[client.Batch](t)(h.Client.NewBatch(t.Context(), client.BatchWants{Text: "x"}))
		if _, err := h.Client.Invite(t.Context(), open.ID, i); err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("want %q, got %v", what, err)
		}
	}
	for what, bad := range map[string]client.SaveHint{
		"group": {Groups: []string{" \x01"}}, "country": {Country: "UK"}, "number": {Number: "Fax"},
	} {
		if _, err := save(first, bad); err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("a wrong %s: %v", what, err)
		}
	}

	var groups []string
	for i := range 5 {
		for n := range 20 {
			groups = append(groups, fmt.Sprint("g", 20*i+n))
		}
		_, err := save("phone\n+447700900101\n", client.SaveHint{Groups: groups[20*i:]})
		if (err != nil) != (i == 4) || err != nil && !strings.Contains(err.Error(), "more than 100 groups") {
			t.Errorf("%d more groups: %v", len(groups), err)
		}
	}

	// What is replaced is as it was until all of the other is there.
	if _, err := save("phone\nnobody\n", client.SaveHint{Replace: true, Number: "phone"}); err == nil ||
		!strings.Contains(err.Error(), "none of its rows") {
		t.Errorf("replaced by nobody: %v", err)
	}
	if _, err := h.Client.SaveRecipients(t.Context(), "passengers", &broken{}, client.SaveHint{Replace: true}); err == nil {
		t.Error("half a sheet replaces a list")
	}
	if l = must[client.RecipientList](t)(h.Client.RecipientList(t.Context(), "passengers")); l.Rows != 4 {
		t.Errorf("after what failed: %+v", l)
	}
	s = must[client.RecipientsSaved](t)(save("phone\n+447700900109\n", client.SaveHint{Replace: true}))
	if l = must[client.RecipientList](t)(h.Client.RecipientList(t.Context(), "passengers")); l.Rows != 1 || s.List.Name != "passengers" {
		t.Errorf("replaced: %+v, %+v", l, s)
	}

	// Several at once lose nothing.
	var all sync.WaitGroup
	for i := range 4 {
		all.Go(func() {
			var sheet strings.Builder
			sheet.WriteString("phone\n")
			for n := range 1500 {
				fmt.Fprintf(&sheet, "+4477009%05d\n", (i*1000+n)%4000+10000)
			}
			if _, err := h.Client.SaveRecipients(t.Context(), "many", strings.NewReader(sheet.String()), client.SaveHint{}); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if l = must[client.RecipientList](t)(h.Client.RecipientList(t.Context(), "many")); l.Rows != 4000 {
		t.Errorf("4 at once: %d rows, want 4000", l.Rows)
	}
}

// The commands do what their help says.
func TestRecipientCommands(t *testing.T) {
	t.Parallel()
	h := build(t)
	if code, _, said := h.pigeon("+447700900101\n", "batch", "rehearse", "-", "--text", "x"); code != 3 ||
		!strings.Contains(said, "no gateway yet") {
		t.Errorf("without a gateway: %d, %s", code, said)
	}
	h.withHarbourline()
	file := filepath.Join(t.TempDir(), "crew.csv")
	const sheet = "Name,Phone,Tags\nAnn,+447700900101,day\nBo,+447700900102,\"day; night\"\nCy,none,\n"
	if err := os.WriteFile(file, []byte(sheet), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		args []string
		code int
		says []string
	}{
		{[]string{"recipients", "list"}, 0, []string{"There are none. To keep one: pigeon recipients save NAME FILE"}},
		{[]string{"recipients", "save", "crew", file, "--dry-run"}, 3, []string{"line 4: ", "Nothing was kept.", "crew"}},
		{[]string{"recipients", "save", "crew", file}, 3,
			[]string{`numbers in "Phone"`, "line 4: ", "crew   2     0         0           1          2"}},
		{[]string{"recipients", "add", "crew", "07700 900103", "--country", "GB", "--field", "Name=Di", "--group", "night"}, 0,
			[]string{"crew"}},
		{[]string{"recipients", "show", "crew", "--group", "night"}, 0,
			[]string{"Bo", "Di", "day, night", "3 recipients · day 2 · night 2"}},
		{[]string{"recipients", "show", "crew", "-o", "csv"}, 0, []string{"Name,Phone,groups\nAnn,+447700900101,day\n"}},
		{[]string{"recipients", "remove", "crew", "+447700900102", "--group", "night"}, 0,
			[]string{"Taken off the group night of crew: 1 of 1."}},
		{[]string{"recipients", "remove", "crew", "+447700900199"}, 3, []string{"0 of 1"}},
		{[]string{"recipients", "list"}, 0, []string{"crew", "3", "Name, Phone", "first"}},
		{[]string{"recipients", "show", "nobody"}, 3, []string{"There is no list of recipients nobody. Known are crew."}},
		{[]string{"recipients", "save", "crew", "/nowhere.csv"}, 2, []string{"there is no file /nowhere.csv"}},
		{[]string{"batch", "rehearse", "--list", "crew", "--group", "day", "--text", "Hello {Name}"}, 0,
			[]string{`the list "crew", of day; 2 rows`, "crew, day", "Hello Ann"}},
		{[]string{"batch", "launch", "--list", "crew", "--without", "day", "--text", "Hi {Name}", "--yes", "--wait"}, 0,
			[]string{"1 delivered"}},
		{[]string{"batch", "rehearse", "--group", "day", "--text", "x"}, 2, []string{"give --list, too"}},
		{[]string{"batch", "rehearse", file, "--list", "crew", "--text", "x"}, 2, []string{"one of the two"}},
		{[]string{"batch", "rehearse", "--text", "x"}, 2, []string{"expected a file, a batch, or --list"}},
		{[]string{"recipients", "forget", "crew"}, 2, []string{"3 recipients would be forgotten", "--yes"}},
		{[]string{"recipients", "forget", "crew", "--yes"}, 0, []string{"crew is forgotten"}},
	} {
		code, out, errOut := h.pigeon("", tt.args...)
		for _, want := range tt.says {
			if code != tt.code || !strings.Contains(out+errOut, want) {
				t.Errorf("pigeon %v: %d, want %d and %q\n%s\n%s", tt.args, code, tt.code, want, out, errOut)
			}
		}
	}
}

// From a dropped sheet to a list that is kept, to a batch of one of its groups.
func TestConsoleRecipients(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	file := filepath.Join(t.TempDir(), "season.csv")
	if err := os.WriteFile(file, []byte("Name,Phone,Group\nAnn,07700 900101,day\nBo,+447700900102,night\nCy,none,\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	b := open(t)
	b.do(chromedp.Navigate(h.URL+"/recipients#key="+h.Key), chromedp.WaitReady("#list"))
	b.shows("main", "No list is kept yet.")
	b.write(`input[placeholder^="Dialled"]`, "GB")
	b.do(chromedp.SetUploadFiles("#list", []string{file}))
	b.shows("main", "3 rows = 2 new + 0 changed + 0 as before + 1 left out")
	b.shows("main", "line 4: ")
	b.do(chromedp.Click(`a[href="/recipients/season"]`))
	b.shows("main", "2 recipients · day 1 · night 1")
	b.do(chromedp.Click(`button[aria-label="Take +447700900102 off season"]`))
	b.shows("main", "1 recipient · day 1")
	b.do(chromedp.Click(`main p span button.plain`))
	b.do(chromedp.Click(`main .btn-primary`))
	b.shows("main", `the list "season", of day; 1 rows`)
	b.shows("main table", "+447700900101")
	b.do(chromedp.Navigate(h.URL+"/recipients/season"), chromedp.Click(`main .btn-link`), chromedp.Click(`main .btn-outline-danger`))
	b.shows("main", "No list is kept yet.")
}
