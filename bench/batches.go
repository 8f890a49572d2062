package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"calmpigeon.example/client"
)

// storm is what the batches of the bench send.
const storm = "Dear {name}, all crossings on Sunday are cancelled. Yours was {crossing}."

// sheetRow is a row of a list of the bench: every row has another number.
func sheetRow(i int) []string {
	return []string{fmt.Sprintf("+447700%06d", i%1_000_000), fmt.Sprintf("Passenger %d", i), fmt.Sprintf("%02d:%02d", i/60%24, i%60)}
}

var sheetHead = []string{"mobile", "name", "crossing"}

// csvSheet is a list of n rows as CSV, made as it is read.
func csvSheet(n int) io.Reader {
	r, w := io.Pipe()
	go func() {
		out := bufio.NewWriterSize(w, 64<<10)
		fmt.Fprintln(out, strings.Join(sheetHead, ","))
		for i := range n {
			out.WriteString(strings.Join(sheetRow(i), ","))
			out.WriteByte('\n')
		}
		w.CloseWithError(out.Flush())
	}()
	return r
}

// xlsxSheet writes a list of n rows as XLSX into a folder.
func xlsxSheet(folder string, n int) (string, error) {
	file := excelize.NewFile()
	defer file.Close()
	w, err := file.NewStreamWriter("Sheet1")
	if err != nil {
		return "", err
	}
	set := func(at int, cells []string) error {
		values := make([]any, len(cells))
		for i, c := range cells {
			values[i] = c
		}
		place, err := excelize.CoordinatesToCellName(1, at)
		if err != nil {
			return err
		}
		return w.SetRow(place, values)
	}
	err = set(1, sheetHead)
	for i := 0; i < n && err == nil; i++ {
		err = set(i+2, sheetRow(i))
	}
	if err == nil {
		err = w.Flush()
	}
	path := filepath.Join(folder, "list.xlsx")
	if err == nil {
		err = file.SaveAs(path)
	}
	return path, err
}

// peak is the most memory that the service has had, in MB.
func (h *house) peak() (float64, error) {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", h.cmd.Process.Pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(status)) {
		if kb, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			n, err := strconv.ParseFloat(strings.Fields(kb)[0], 64)
			return n / 1000, err
		}
	}
	return 0, errors.New("the system does not tell how much memory a process had")
}

// batched uploads a list and has it rehearsed.
func (h *house) batched(ctx context.Context, list io.Reader, file string) (client.Batch, error) {
	return h.listed(ctx, client.BatchWants{Name: "storm", Text: storm}, list, file)
}

// listed uploads a list for what is wanted of it, and has it rehearsed: all of it has to go.
func (h *house) listed(ctx context.Context, wants client.BatchWants, list io.Reader, file string) (client.Batch, error) {
	columns := wants.Columns
	wants.Columns = nil
	one, err := h.Client.NewBatch(ctx, wants)
	if err == nil {
		_, err = h.Client.AppendRows(ctx, one.ID, list, client.ListHint{File: file, At: -1})
	}
	if err == nil && columns != nil {
		wants.Columns = columns
		one, err = h.Client.ChangeBatch(ctx, one.ID, wants)
	}
	if err == nil {
		one, err = h.Client.RehearseBatch(ctx, one.ID)
	}
	if err != nil {
		return one, err
	}
	err = until(ctx, 10*time.Minute, func() (bool, error) {
		one, err = h.Client.Batch(ctx, one.ID)
		return one.State != "checking", err
	})
	if err == nil && (one.Totals == nil || one.Totals.Goes != one.Rows) {
		err = fmt.Errorf("not all of %d rows go: %s %+v", one.Rows, one.Why, one.Totals)
	}
	return one, err
}

// sheetMillion is the way of a million rows: from a sheet to a launch that is durable, then
// through a gateway for a while, and back into a sheet.
func sheetMillion(ctx context.Context, s settings) ([]Figure, error) {
	n := s.count(1_000_000)
	h, err := open(ctx, s, array, newGateway())
	if err != nil {
		return nil, err
	}
	defer h.Close()
	var one client.Batch
	var took, rehearsed time.Duration
	err = h.profiled(s, func() error {
		began := time.Now()
		if one, err = h.batched(ctx, csvSheet(n), "list.csv"); err != nil {
			return err
		}
		rehearsed = time.Since(began)
		one, err = h.Client.LaunchBatch(ctx, one.ID, client.Launch{})
		took = time.Since(began)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("%w\n%s", err, h.said())
	}
	figures := []Figure{{Name: "sheet_million", Value: took.Seconds(), Unit: "s", Asked: "60 s at most",
		Note: fmt.Sprintf("%d rows; %.1f s of it the launch", n, (took - rehearsed).Seconds())}}
	memory := func(name, asked string) error {
		mb, err := h.peak()
		figures = append(figures, Figure{Name: name, Value: mb, Unit: "MB", Asked: asked})
		return err
	}
	if err := memory("sheet_million_memory", "200 MB at most"); err != nil {
		return figures, err
	}
	lives := min(n, 150_000)
	began := time.Now()
	cost := h.cost(lives)
	if err := h.profiled(s, func() error { return h.reached(ctx, "delivered", lives) }); err != nil {
		return figures, fmt.Errorf("%w\n%s", err, h.said())
	}
	rate := float64(lives) / time.Since(began).Seconds()
	figures = append(figures, Figure{Name: "batch_through", Value: rate, Unit: "lives/s", Asked: "0.9 of life_list",
		Note: fmt.Sprintf("the first %d; processor a life: %s", lives, cost())})
	if _, err := h.Client.PauseBatch(ctx, one.ID); err != nil {
		return figures, err
	}
	time.Sleep(3 * time.Second) // until what is on its way has arrived
	h.stop()                    // what it had for sending it need not have for this
	if err := h.start(s); err != nil {
		return figures, err
	}
	counting := &counter{}
	began = time.Now()
	if err := h.Client.BatchResult(ctx, one.ID, "", false, counting); err != nil {
		return figures, err
	}
	took = time.Since(began)
	if counting.lines != n+1 {
		return figures, fmt.Errorf("the result has %d lines", counting.lines)
	}
	figures = append(figures, Figure{Name: "result_million", Value: took.Seconds(), Unit: "s", Asked: "30 s at most",
		Note: fmt.Sprintf("%d rows, of which %d are messages", n, lives)})
	return figures, memory("result_million_memory", "100 MB at most")
}

// counter counts lines.
type counter struct{ lines int }

func (c *counter) Write(p []byte) (int, error) {
	for _, b := range p {
		if b == '\n' {
			c.lines++
		}
	}
	return len(p), nil
}

func sheetMillionXLSX(ctx context.Context, s settings) ([]Figure, error) {
	n := s.count(1_000_000)
	h, err := open(ctx, s, array, newGateway())
	if err != nil {
		return nil, err
	}
	defer h.Close()
	path, err := xlsxSheet(h.folder, n)
	if err != nil {
		return nil, err
	}
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	began := time.Now()
	one, err := h.batched(ctx, file, "list.xlsx")
	if err == nil {
		_, err = h.Client.LaunchBatch(ctx, one.ID, client.Launch{})
	}
	if err != nil {
		return nil, fmt.Errorf("%w\n%s", err, h.said())
	}
	took := time.Since(began)
	mb, err := h.peak()
	return []Figure{
		{Name: "sheet_million_xlsx", Value: took.Seconds(), Unit: "s", Asked: "120 s at most", Note: fmt.Sprintf("%d rows", n)},
		{Name: "sheet_million_xlsx_memory", Value: mb, Unit: "MB", Asked: "300 MB at most"},
	}, err
}

// batchPace is a batch with a pace of its own through a gateway without limits, as the
// gateway's door sees it; then the pause.
func batchPace(ctx context.Context, s settings) ([]Figure, error) {
	const perSecond = 500
	span := time.Duration(s.count(60)) * time.Second
	h, err := build(ctx, s)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	g, arrivals := watchedGateway()
	if err := h.gateway(ctx, single, g); err != nil {
		return nil, err
	}
	one, err := h.batched(ctx, csvSheet(perSecond*int(span.Seconds()+10)), "list.csv")
	if err != nil {
		return nil, err
	}
	if _, err := h.Client.LaunchBatch(ctx, one.ID, client.Launch{Pace: strconv.Itoa(perSecond) + "/s"}); err != nil {
		return nil, err
	}
	time.Sleep(span)
	asked := time.Now()
	if _, err := h.Client.PauseBatch(ctx, one.ID); err != nil {
		return nil, err
	}
	time.Sleep(5 * time.Second)
	arrived := arrivals()
	if len(arrived) == 0 {
		return nil, errors.New("nothing arrived")
	}
	last := arrived[len(arrived)-1]
	return []Figure{
		{Name: "batch_pace_used", Value: 100 * shareUsed(arrived, perSecond, asked.Add(-time.Second)), Unit: "%", Asked: "99%"},
		{Name: "batch_pace_exceeded", Value: float64(windowsExceeded(arrived, perSecond)), Unit: "windows", Asked: "never"},
		{Name: "pause_takes", Value: max(last.Sub(asked).Seconds(), 0), Unit: "s", Asked: "1 s at most"},
	}, nil
}
