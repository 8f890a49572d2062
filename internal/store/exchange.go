package store

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/klauspost/compress/zstd"
)

// Exchange is a raw exchange with a gateway, its secrets masked.
type Exchange struct {
	ID            uuid.UUID
	GatewayID     uuid.UUID
	Purpose       string // submit, query or callback
	Method        string
	URL           string
	RequestHeader map[string]string
	RequestBody   []byte
	Status        int
	ReplyHeader   map[string]string
	ReplyBody     []byte
	Error         string
	StartedAt     time.Time
	TookUs        int64
}

// Hide hides something in all that was answered.
func (x *Exchange) Hide(hiding func(string) string) {
	x.ReplyBody, x.Error = []byte(hiding(string(x.ReplyBody))), hiding(x.Error)
	header := make(map[string]string, len(x.ReplyHeader))
	for name, value := range x.ReplyHeader {
		header[name] = hiding(value)
	}
	x.ReplyHeader = header
}

// Exchanges of one moment have most of what they say in common, so they are
// kept in packs, compressed. The id of an exchange is that of its pack but for
// the last 16 bits, which are its number.

const (
	// packMost is how many bytes of exchanges stand in one pack, more or less: as
	// many have to be unpacked to show one.
	packMost = 256 << 10
	// packCount is how many exchanges a pack may hold.
	packCount = 1000
)

// Packs are exchanges made ready to be kept.
type Packs struct {
	packs  []exchangePack
	called map[uuid.UUID]uuid.UUID // what each exchange is called in its pack
}

type exchangePack struct {
	id     uuid.UUID
	packed []byte
}

// packed is an exchange in its pack.
type packed struct {
	N         int               `json:"n"`
	Gateway   uuid.UUID         `json:"gateway"`
	Purpose   string            `json:"purpose"`
	Method    string            `json:"method"`
	URL       string            `json:"url"`
	Asked     map[string]string `json:"asked,omitempty"`
	Request   string            `json:"request,omitempty"`
	Request64 []byte            `json:"request64,omitempty"` // what is no text
	Status    int               `json:"status,omitempty"`
	Answered  map[string]string `json:"answered,omitempty"`
	Reply     string            `json:"reply,omitempty"`
	Reply64   []byte            `json:"reply64,omitempty"`
	Error     string            `json:"error,omitempty"`
	At        time.Time         `json:"at"`
	Us        int64             `json:"us"`
}

// text is a body as JSON keeps it: as text if it is any.
func text(body []byte) (plain string, other []byte) {
	if utf8.Valid(body) {
		return string(body), nil
	}
	return "", body
}

func headers(kept map[string]string) map[string]string {
	if kept == nil {
		return map[string]string{}
	}
	return kept
}

func body(plain string, other []byte) []byte {
	if other != nil {
		return other
	}
	return []byte(plain)
}

var (
	compressor, _   = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2))
	decompressor, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(2), zstd.WithDecoderMaxMemory(64<<20))
)

// PackExchanges makes exchanges ready to be kept. What cites them is to be
// changed by [Packs.Cite].
func PackExchanges(exchanges []Exchange) (Packs, error) {
	p := Packs{called: make(map[uuid.UUID]uuid.UUID, len(exchanges))}
	for len(exchanges) > 0 {
		n, size := 0, 0
		for ; n < min(len(exchanges), packCount) && size < packMost && monthOf(exchanges[n].ID) == monthOf(exchanges[0].ID); n++ {
			size += len(exchanges[n].RequestBody) + len(exchanges[n].ReplyBody)
		}
		one, err := p.pack(exchanges[:n])
		if err != nil {
			return p, fmt.Errorf("packing %d exchanges: %w", n, err)
		}
		p.packs, exchanges = append(p.packs, one), exchanges[n:]
	}
	return p, nil
}

func (p *Packs) pack(set []Exchange) (exchangePack, error) {
	one := exchangePack{id: set[0].ID}
	one.id[14], one.id[15] = 0, 0
	all := make([]packed, len(set))
	for i, x := range set {
		k := packed{N: i, Gateway: x.GatewayID, Purpose: x.Purpose, Method: x.Method, URL: x.URL, Asked: x.RequestHeader, Status: x.Status,
			Answered: x.ReplyHeader, Error: x.Error, At: x.StartedAt.UTC().Truncate(time.Microsecond), Us: x.TookUs}
		k.Request, k.Request64 = text(x.RequestBody)
		k.Reply, k.Reply64 = text(x.ReplyBody)
		all[i] = k
		name := one.id
		name[14], name[15] = byte(i>>8), byte(i)
		p.called[x.ID] = name
	}
	var plain bytes.Buffer
	encoder := json.NewEncoder(&plain)
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(all); err != nil {
		return one, err
	}
	one.packed = compressor.EncodeAll(plain.Bytes(), nil)
	return one, nil
}

// purposeCallback is of callbacks, which the gateway makes: the URL is its query.
const purposeCallback = "callback"

// PackReceipts makes callbacks ready to be kept that have been read.
func PackReceipts(receipts []Receipt) (Packs, error) {
	exchanges := make([]Exchange, len(receipts))
	for i, r := range receipts {
		exchanges[i] = Exchange{ID: r.ID, GatewayID: r.GatewayID, Purpose: purposeCallback, Method: r.Method, URL: r.Query,
			RequestHeader: r.Header, RequestBody: r.Body, StartedAt: r.ReceivedAt}
	}
	return PackExchanges(exchanges)
}

// Called is what an exchange or a callback is called in its pack.
func (p Packs) Called(id uuid.UUID) uuid.UUID {
	if name, ok := p.called[id]; ok {
		return name
	}
	return id
}

// Cite returns evidence that cites exchanges as they are called in their packs.
func (p Packs) Cite(evidence []Evidence) []Evidence {
	cited := slices.Clone(evidence)
	for i := range cited {
		if e := &cited[i]; e.ExchangeID != nil {
			name := p.Called(*e.ExchangeID)
			e.ExchangeID = &name
		}
	}
	return cited
}

// StoreExchanges keeps raw exchanges.
func (s *Store) StoreExchanges(ctx context.Context, p Packs) error {
	var b pgx.Batch
	for m, set := range byMonth(s, p.packs, func(x *exchangePack) uuid.UUID { return x.id }) {
		b.Queue(m.in("INSERT INTO exchange_packs_%M (id, packed) SELECT * FROM unnest($1::uuid[], $2::bytea[])"),
			ids(set, func(x *exchangePack) uuid.UUID { return x.id }), column(set, func(x *exchangePack) []byte { return x.packed }))
	}
	if err := s.send(ctx, &b); err != nil {
		s.missing(err)
		return fmt.Errorf("storing %d exchanges: %w", len(p.called), err)
	}
	return nil
}

// packOf is the pack that an exchange stands in.
func packOf(exchange uuid.UUID) uuid.UUID {
	exchange[14], exchange[15] = 0, 0
	return exchange
}

// unpack reads the exchanges of a pack.
func unpack(p exchangePack) ([]Exchange, error) {
	plain := p.packed
	if !bytes.HasPrefix(plain, []byte("[")) { // one of an earlier version
		var err error
		if plain, err = decompressor.DecodeAll(p.packed, nil); err != nil {
			return nil, fmt.Errorf("exchanges %s: %w", p.id, err)
		}
	}
	var all []packed
	if err := json.Unmarshal(plain, &all); err != nil {
		return nil, fmt.Errorf("exchanges %s: %w", p.id, err)
	}
	exchanges := make([]Exchange, len(all))
	for i, k := range all {
		exchanges[i] = Exchange{ID: p.id, GatewayID: k.Gateway, Purpose: k.Purpose, Method: k.Method, URL: k.URL,
			RequestHeader: headers(k.Asked), RequestBody: body(k.Request, k.Request64), Status: k.Status,
			ReplyHeader: headers(k.Answered), ReplyBody: body(k.Reply, k.Reply64), Error: k.Error, StartedAt: k.At, TookUs: k.Us}
		exchanges[i].ID[14], exchanges[i].ID[15] = byte(k.N>>8), byte(k.N)
	}
	return exchanges, nil
}

// Exchanges returns the raw exchanges and callbacks behind a message's
// evidence, by their ids.
func (s *Store) Exchanges(ctx context.Context, timeline []Evidence) (map[uuid.UUID]Exchange, map[uuid.UUID]Receipt, error) {
	var exchangeIDs, receiptIDs []uuid.UUID
	for _, e := range timeline {
		if e.ExchangeID != nil {
			exchangeIDs = append(exchangeIDs, *e.ExchangeID)
		}
		if e.ReceiptID != nil {
			receiptIDs = append(receiptIDs, *e.ReceiptID)
		}
	}
	all, err := s.unpacked(ctx, slices.Concat(exchangeIDs, receiptIDs))
	if err != nil {
		return nil, nil, err
	}
	rows, err := s.receipts(ctx, receiptIDs)
	if err != nil {
		return nil, nil, err
	}
	exchanges, receipts := map[uuid.UUID]Exchange{}, map[uuid.UUID]Receipt{}
	for id, x := range all {
		if x.Purpose != purposeCallback {
			exchanges[id] = x
			continue
		}
		receipts[id] = Receipt{
			ID:         id,
			GatewayID:  x.GatewayID,
			ReceivedAt: x.StartedAt,
			Method:     x.Method,
			Query:      x.URL,
			Header:     x.RequestHeader,
			Body:       x.RequestBody,
			Genuine:    true,
		}
	}
	for _, r := range rows {
		receipts[r.ID] = r
	}
	return exchanges, receipts, nil
}

// unpacked reads exchanges that are kept in packs.
func (s *Store) unpacked(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]Exchange, error) {
	asked := map[uuid.UUID]bool{}
	var packs []uuid.UUID
	for _, id := range ids {
		asked[id] = true
		if p := packOf(id); !slices.Contains(packs, p) {
			packs = append(packs, p)
		}
	}
	exchanges := map[uuid.UUID]Exchange{}
	for m, set := range byMonth(s, packs, itself) {
		found, err := query(ctx, s.reading(), func(rows pgx.Rows) (p exchangePack, err error) {
			err = rows.Scan(&p.id, &p.packed)
			return p, err
		}, m.in("SELECT id, packed FROM exchange_packs_%M WHERE id = ANY($1)"), uuids(set))
		if err != nil {
			return nil, fmt.Errorf("reading exchanges: %w", err)
		}
		for _, p := range found {
			all, err := unpack(p)
			if err != nil {
				return nil, err
			}
			for _, x := range all {
				if asked[x.ID] {
					exchanges[x.ID] = x
				}
			}
		}
	}
	return exchanges, nil
}
