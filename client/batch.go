package client

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/url"
	"strconv"
	"time"
)

// BatchWants is what a batch sends, the same for all rows that do not say otherwise.
type BatchWants struct {
	Name       string `json:"name"`
	Text       string `json:"text"` // with fields in braces: {name}, or {name|there}
	Template   string `json:"template"`
	Sender     string `json:"sender"`
	Kind       string `json:"kind"` // bulk, unless it says transactional
	Gateway    string `json:"gateway"`
	ValidFor   Span   `json:"valid_for"`
	Country    string `json:"country"`  // in which numbers are dialled that have no country code
	Language   string `json:"language"` // of rows that name none
	Cure       string `json:"cure"`
	Flash      bool   `json:"flash"`
	Long       bool   `json:"long"`
	AtAnyHour  bool   `json:"at_any_hour"` // in quiet hours, too
	SendAt     string `json:"send_at"`     // when each goes; without a zone by the clock of whom it is for
	OwnTimes   bool   `json:"own_times"`   // each goes at the time in its row's column for times
	FixedLines bool   `json:"fixed_lines"` // rows to fixed lines go, too
	// Labels of all its messages, beside those of the key.
	Labels  map[string]string `json:"labels"`
	Repeats bool              `json:"repeats"` // rows go, too, whose number stands in the list before
	// Columns says what columns are for that were not recognised: the name of a column by its
	// role, which is to, country, language, name, reference, at or text.
	Columns map[string]string `json:"columns,omitempty"`
}

// Batch is a list of recipients, what is sent to them, and what became of it.
type Batch struct {
	ID         string       `json:"id"`
	State      string       `json:"state"`
	Why        string       `json:"why"` // it is held, or could not be rehearsed
	By         string       `json:"by"`  // the key that made it
	Wants      BatchWants   `json:"wants"`
	File       string       `json:"file"`
	Recognised string       `json:"recognised"` // what the list is written in
	Columns    []Column     `json:"columns"`
	Rows       int          `json:"rows"`
	Checked    int          `json:"checked"` // rows that were rehearsed until now
	Totals     *BatchTotals `json:"totals"`  // nil: it was not rehearsed
	Launch     *Launched    `json:"launch"`  // nil: it was not launched
	Tally      *Tally       `json:"tally"`   // of the rows that were accepted; nil: none were
	Waiting    int64        `json:"waiting"` // of those, how many are no messages yet
	Failures   []Failure    `json:"failures"`
	Spent      []Money      `json:"spent"`    // by estimate, for what went
	Segments   int64        `json:"segments"` // of the rows that were let out; of one batch only
	Through    []Through    `json:"through"`
	Acts       []BatchAct   `json:"acts"`  // the last ones; of one batch only
	Waits      []BatchWait  `json:"waits"` // what rows wait for beside their turn, while it runs; of one batch only
	CreatedAt  time.Time    `json:"created_at"`
	ChangedAt  time.Time    `json:"changed_at"`
	LaunchedAt *time.Time   `json:"launched_at"`
	FinishedAt *time.Time   `json:"finished_at"`
}

// BatchWait is what rows of a batch wait for.
type BatchWait struct {
	Rows    int        `json:"rows"`
	For     string     `json:"for"`     // scouts, start, quiet_hours or own_time
	Country string     `json:"country"` // in which it is quiet
	Until   *time.Time `json:"until"`   // nil: that is not known
}

// BatchAct is what was done with a batch.
type BatchAct struct {
	At  time.Time `json:"at"`
	By  string    `json:"by"` // the name of a key; empty: the batch itself
	Act string    `json:"act"`
}

// Column is a column of a list, and what it was recognised as.
type Column struct {
	Head  string `json:"head"`
	Role  string `json:"role"`  // empty: a field alone
	Field string `json:"field"` // by which a text may name it, beside its head
	Why   string `json:"why"`
}

// BatchTotals are what the rows of a batch come to. Rows = Goes + all that is left out.
type BatchTotals struct {
	Rows       int           `json:"rows"`
	Goes       int           `json:"goes"`
	Left       []BatchPart   `json:"left"` // out, by reason
	Segments   int           `json:"segments"`
	Warned     int           `json:"warned"`
	Cured      int           `json:"cured"`
	Changed    int           `json:"changed"` // numbers that are written otherwise than they stood there
	Unpriced   int           `json:"unpriced"`
	Cost       []Money       `json:"cost"`
	Countries  []BatchPart   `json:"countries"`
	Gateways   []BatchPart   `json:"gateways"`
	Senders    []BatchPart   `json:"senders"`
	Encodings  []BatchPart   `json:"encodings"`
	Lengths    []BatchPart   `json:"lengths"`    // by segments
	Characters []BatchPart   `json:"characters"` // that make texts dear and could be replaced
	Curable    BatchPart     `json:"curable"`    // what replacing them would save
	Dearest    []BatchSample `json:"dearest"`
	Longest    []BatchSample `json:"longest"`
	Random     []BatchSample `json:"random"`
}

// BatchPart is what the rows of one kind come to.
type BatchPart struct {
	Name     string  `json:"name"`
	Rows     int     `json:"rows"`
	Segments int     `json:"segments"`
	Cost     []Money `json:"cost"`
}

// BatchSample is a row as it would be sent.
type BatchSample struct {
	Row      int    `json:"row"`
	To       string `json:"to"`
	Text     string `json:"text"`
	Segments int    `json:"segments"`
	Price    *Money `json:"price"`
}

// Launch is how a batch is launched.
type Launch struct {
	StartsAt *time.Time `json:"starts_at"` // nil: at once
	Until    *time.Time `json:"until"`     // what is left then expires; nil: no such time
	Pace     string     `json:"pace"`      // such as 50/s, 30/min or 2000/h; empty: as fast as gateways go
	Evenly   *time.Time `json:"evenly"`    // in the place of a pace: it lasts until then
	Scouts   string     `json:"scouts"`    // how many rows go ahead: a number, or a share such as 2%
	Seed     uint64     `json:"seed"`      // by which scouts are chosen
	Again    bool       `json:"again"`     // also if most of the recipients got the same text within a day
	// ScoutsAfter is how long after its launch the rest follows by itself, where at least
	// ScoutsLeast of the scouts were delivered, a share; empty: when somebody releases it.
	ScoutsAfter Span    `json:"scouts_after"`
	ScoutsLeast float64 `json:"scouts_least"`
	// Guard is when it stops by itself; nil: as usual.
	Guard *Guard `json:"guard"`
	// Budget is what may be spent on it, by estimate, such as 30 EUR, or 30 EUR, 20 USD; empty:
	// any amount. What is in another currency may not be spent at all.
	Budget string `json:"budget"`
}

// Launched is how a batch was launched.
type Launched struct {
	Launch
	By string `json:"by"` // the key that launched it
	// Approval is why a second person has to let it go, with another key; empty: nobody has to.
	Approval string `json:"approval"`
	// Foreseen is when it was to end, as was forecast at its launch; nil: never.
	Foreseen *time.Time `json:"foreseen"`
}

// BatchForecast is how a batch is going to go, beside all that waits now and if nothing else
// comes in.
type BatchForecast struct {
	StartsAt *time.Time      `json:"starts_at"` // nil: none of it goes
	EndsAt   *time.Time      `json:"ends_at"`   // the last one that goes
	First    *time.Time      `json:"first"`     // when it was to end, as was forecast at its launch
	Goes     int64           `json:"goes"`      // messages from now on
	Left     int64           `json:"left"`      // that do not go: their time is over before, or nothing takes them
	Before   int64           `json:"before"`    // that have gone already
	Waiting  int             `json:"waiting"`   // rows that somebody has to release; forecast as if that were now
	Why      string          `json:"why"`       // it does not go now; forecast as if it did
	Bounds   []ForecastBound `json:"bounds"`    // what holds it back, the tightest first
	Curve    []ForecastPoint `json:"curve"`     // between two points messages go evenly
}

// ForecastBound is a limit that holds messages back.
type ForecastBound struct {
	Kind  string  `json:"kind"` // gateway, sender, pace (the batch's own) or service
	Name  string  `json:"name"`
	Share float64 `json:"share"` // of the messages that it holds back
}

// BatchCourse is how a batch has gone until now.
type BatchCourse struct {
	PerSecond float64       `json:"per_second"` // can go at most; 0: nothing limits it
	Points    []CoursePoint `json:"points"`     // the earliest first; the further, the further apart
}

// CoursePoint is how a batch stood at a moment.
type CoursePoint struct {
	At     time.Time        `json:"at"`
	Gone   int64            `json:"gone"`   // rows that neither wait nor are held
	States map[string]int64 `json:"states"` // rows by state
}

// ForecastPoint is how many messages have gone by a moment.
type ForecastPoint struct {
	At   time.Time `json:"at"`
	Gone int64     `json:"gone"`
}

// Guard is when a batch stops by itself. What is zero is not watched.
type Guard struct {
	Failures float64 `json:"failures"` // share of what came to an end within a minute
	Cause    float64 `json:"cause"`    // share of that which failed for one cause
	Doubt    float64 `json:"doubt"`    // share of what has gone
	Cost     float64 `json:"cost"`     // times what was estimated
}

// Failure is how many messages of a batch came to an end for a cause.
type Failure struct {
	State  string `json:"state"`
	Cause  string `json:"cause"`
	N      int64  `json:"n"`
	Advice string `json:"advice"`
}

// Through is how many messages of a batch are with a gateway, by state.
type Through struct {
	Gateway string           `json:"gateway"`
	States  map[string]int64 `json:"states"`
}

// BatchRow is a row of a batch.
type BatchRow struct {
	Row       int               `json:"row"`
	Line      int               `json:"line"` // of the file
	Cells     map[string]string `json:"cells"`
	LeftOut   string            `json:"left_out"` // the reason; empty: it goes
	Say       string            `json:"say"`      // why it is left out, or what was changed of its number
	To        string            `json:"to"`
	Country   string            `json:"country"`
	Sender    string            `json:"sender"`
	Gateway   string            `json:"gateway"`
	Encoding  string            `json:"encoding"`
	Segments  int               `json:"segments"`
	Price     *Money            `json:"price"`
	Text      string            `json:"text,omitempty"`
	State     string            `json:"state"` // empty: it is left out, or was not launched
	Cause     string            `json:"cause"`
	Advice    string            `json:"advice"`
	SettledAt *time.Time        `json:"settled_at"`
	Message   string            `json:"message"` // its id; empty: it is none yet
}

// BatchAppended is what came of rows that were appended.
type BatchAppended struct {
	Rows    int   `json:"rows"`    // that the batch holds now
	Already int   `json:"already"` // of those that came it held before
	Mended  int   `json:"mended"`  // octets that were no UTF-8 and were read as windows-1252
	Batch   Batch `json:"batch"`
}

// BatchCorrected is what came of rows that were corrected.
type BatchCorrected struct {
	Rows  int   `json:"rows"` // that were put back
	Batch Batch `json:"batch"`
}

// BatchTry sends one row of a batch to somebody else.
type BatchTry struct {
	To  string `json:"to"`
	Row int    `json:"row"` // 0: the longest text
}

// BatchPace is how fast a batch goes.
type BatchPace struct {
	Pace string `json:"pace"` // empty: as fast as gateways go
}

// BatchBudget is what may be spent on a batch.
type BatchBudget struct {
	Budget string `json:"budget"` // empty: any amount
}

// ListHint is what is known of a list beforehand.
type ListHint struct {
	File      string
	Encoding  string
	Delimiter string
	Sheet     string
	Locale    string // in whose conventions a workbook shows its cells, such as de; empty: that of the workbook
	HeadRow   int    // the row that names the columns, 1 first; 0: it is recognised
	At        int    // rows that stand before the first of it; -1: all that the batch holds
}

// values are what is said of how a list is read.
func (h ListHint) values() map[string]string {
	values := map[string]string{"encoding": h.Encoding, "delimiter": h.Delimiter, "sheet": h.Sheet, "locale": h.Locale}
	if h.HeadRow > 0 {
		values["head_row"] = strconv.Itoa(h.HeadRow)
	}
	return values
}

func batchPath(id, rest string) string { return "/v1/batches/" + url.PathEscape(id) + rest }

// NewBatch begins a batch that takes rows.
func (c *Client) NewBatch(ctx context.Context, w BatchWants) (Batch, error) {
	var b Batch
	return b, c.call(ctx, "POST", "/v1/batches", nil, w, &b)
}

// AppendRows adds the rows of a list, in whatever it is written: CSV, XLSX, JSON Lines, or
// numbers one a line. Rows that the batch holds already are passed over, so what broke off is
// repeated.
func (c *Client) AppendRows(ctx context.Context, id string, list io.Reader, hint ListHint) (BatchAppended, error) {
	values := hint.values()
	values["file"] = hint.File
	if hint.At >= 0 {
		values["at"] = strconv.Itoa(hint.At)
	}
	var a BatchAppended
	return a, c.call(ctx, "POST", batchPath(id, "/rows"+choose(url.Values{}, values, 0)), nil, list, &a)
}

// AppendEach adds rows as they come, each with a cell for each column of the head. They go as
// one list, and nothing of it is held. at is how many rows of the batch stand before the first;
// -1: all that it holds. What broke off is repeated with the same at.
func (c *Client) AppendEach(ctx context.Context, id string, head []string, rows iter.Seq[[]string], at int) (BatchAppended, error) {
	list, out := io.Pipe()
	defer list.Close() // whoever writes on is told
	go func() {
		w := csv.NewWriter(out)
		err := w.Write(head)
		for row := range rows {
			if err == nil {
				err = w.Write(row)
			}
			if err != nil {
				break
			}
		}
		w.Flush()
		out.CloseWithError(errors.Join(err, w.Error()))
	}()
	return c.AppendRows(ctx, id, list, ListHint{Delimiter: ",", At: at})
}

// CorrectRows puts rows back that were left out and have been corrected: the sheet that
// [Client.BatchResult] gives of them, with the number of each row.
func (c *Client) CorrectRows(ctx context.Context, id string, list io.Reader, hint ListHint) (b BatchCorrected, err error) {
	return b, c.call(ctx, "POST", batchPath(id, "/corrections"+choose(url.Values{}, hint.values(), 0)), nil, list, &b)
}

// ChangeBatch makes a batch send something else, until it is launched.
func (c *Client) ChangeBatch(ctx context.Context, id string, w BatchWants) (Batch, error) {
	var b Batch
	return b, c.call(ctx, "PUT", batchPath(id, ""), nil, w, &b)
}

// RehearseBatch has a batch rehearsed; [Client.Batch] tells how far it is.
func (c *Client) RehearseBatch(ctx context.Context, id string) (Batch, error) {
	return c.batchDo(ctx, id, "rehearse", nil)
}

// TryBatch sends one row to somebody else, to be looked at.
func (c *Client) TryBatch(ctx context.Context, id string, t BatchTry) (Message, error) {
	var m Message
	return m, c.call(ctx, "POST", batchPath(id, "/try"), nil, t, &m)
}

// ForecastBatch says how a batch is going to go: a rehearsed one if it is launched so, one
// that was launched as it was.
func (c *Client) ForecastBatch(ctx context.Context, id string, l Launch) (f BatchForecast, err error) {
	return f, c.call(ctx, "POST", batchPath(id, "/forecast"), nil, l, &f)
}

// LaunchBatch lets a rehearsed batch go.
func (c *Client) LaunchBatch(ctx context.Context, id string, l Launch) (Batch, error) {
	return c.batchDo(ctx, id, "launch", l)
}

// PauseBatch holds a batch back, ResumeBatch lets it go on.
func (c *Client) PauseBatch(ctx context.Context, id string) (Batch, error) {
	return c.batchDo(ctx, id, "pause", nil)
}

// ResumeBatch lets a batch go on that was held back.
func (c *Client) ResumeBatch(ctx context.Context, id string) (Batch, error) {
	return c.batchDo(ctx, id, "resume", nil)
}

// ReleaseBatch lets the rest go after the scouts.
func (c *Client) ReleaseBatch(ctx context.Context, id string) (Batch, error) {
	return c.batchDo(ctx, id, "release", nil)
}

// CancelBatch withdraws what of a batch is not on its way.
func (c *Client) CancelBatch(ctx context.Context, id string) (Batch, error) {
	return c.batchDo(ctx, id, "cancel", nil)
}

// RetryBatch makes a new batch of the rows that failed for a reason that may pass.
func (c *Client) RetryBatch(ctx context.Context, id string) (Batch, error) {
	return c.batchDo(ctx, id, "retry", nil)
}

// PaceBatch changes how fast a batch goes at most; empty lifts the limit.
func (c *Client) PaceBatch(ctx context.Context, id, pace string) (Batch, error) {
	return c.batchDo(ctx, id, "pace", BatchPace{pace})
}

// BatchCourse says how a batch has gone until now.
func (c *Client) BatchCourse(ctx context.Context, id string) (b BatchCourse, err error) {
	return b, c.call(ctx, "GET", batchPath(id, "/course"), nil, nil, &b)
}

// ApproveBatch lets a batch go that a second person has to look at.
func (c *Client) ApproveBatch(ctx context.Context, id string) (Batch, error) {
	return c.batchDo(ctx, id, "approve", nil)
}

// BudgetBatch changes what may be spent on a batch; empty lifts the limit.
func (c *Client) BudgetBatch(ctx context.Context, id, budget string) (Batch, error) {
	return c.batchDo(ctx, id, "budget", BatchBudget{budget})
}

func (c *Client) batchDo(ctx context.Context, id, what string, body any) (Batch, error) {
	var b Batch
	return b, c.call(ctx, "POST", batchPath(id, "/"+what), nil, body, &b)
}

// RemoveBatch forgets a batch that was not launched.
func (c *Client) RemoveBatch(ctx context.Context, id string) error {
	return c.call(ctx, "DELETE", batchPath(id, ""), nil, nil, nil)
}

// Batch returns one batch.
func (c *Client) Batch(ctx context.Context, id string) (Batch, error) {
	var b Batch
	return b, c.call(ctx, "GET", batchPath(id, ""), nil, nil, &b)
}

// Batches lists batches, the newest first; of a state, if it is given.
func (c *Client) Batches(ctx context.Context, state, cursor string, limit int) (List[Batch], error) {
	q := choose(url.Values{}, map[string]string{"state": state, "cursor": cursor}, limit)
	var l List[Batch]
	return l, c.call(ctx, "GET", "/v1/batches"+q, nil, nil, &l)
}

// BatchRows lists rows of a batch: those that are left out, or those in a state; all if both
// are empty. leftOut is a reason, or any.
func (c *Client) BatchRows(ctx context.Context, id, leftOut, state, cursor string, limit int) (List[BatchRow], error) {
	q := choose(url.Values{}, map[string]string{"left_out": leftOut, "state": state, "cursor": cursor}, limit)
	var l List[BatchRow]
	return l, c.call(ctx, "GET", batchPath(id, "/rows"+q), nil, nil, &l)
}

// BatchResult writes a batch's own rows with what became of each: as csv, xlsx or jsonl;
// empty is as the list came. Of those that are left out alone, if leftOut.
func (c *Client) BatchResult(ctx context.Context, id, format string, leftOut bool, out io.Writer) error {
	q := choose(url.Values{"left_out": {strconv.FormatBool(leftOut)}}, map[string]string{"format": format}, 0)
	response, err := c.do(ctx, "GET", batchPath(id, "/result"+q), nil, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if _, err := io.Copy(out, response.Body); err != nil {
		return fmt.Errorf("reading the result of a batch: %w", err)
	}
	if response.Trailer.Get("Result") != "whole" {
		return fmt.Errorf("reading the result of a batch: it broke off")
	}
	return nil
}
