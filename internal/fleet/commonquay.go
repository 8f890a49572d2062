package fleet

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"time"
)

// Commonquay is the sixth practice gateway: it speaks the open standard, the
// RESTful Network API for Messaging 1.0 of the Open Mobile Alliance: tel:
// addresses, the sender in the path, a correlator that makes repetitions
// harmless, delivery infos and delivery notifications. A key stands in a header.
type Commonquay struct{ *chassis }

var commonquayWords = map[string]string{
	taken:   "MessageWaiting",
	afloat:  "DeliveredToNetwork",
	landed:  "DeliveredToTerminal",
	absent:  "DeliveryImpossible",
	invalid: "DeliveryImpossible",
}

func newCommonquay(f *Fleet) *Commonquay {
	q := &Commonquay{newChassis(f, "commonquay", "cq", 50_000)}
	q.honours, q.tell, q.inbound = true, q.notify, q.notifyInbound
	return q
}

func (q *Commonquay) routes(mux *http.ServeMux) {
	mux.HandleFunc("POST /commonquay/messaging/v1/outbound/{sender}/requests", q.keyed(q.submit))
	mux.HandleFunc("GET /commonquay/messaging/v1/outbound/{sender}/requests/{id}/deliveryInfos", q.keyed(q.infos))
}

func (q *Commonquay) keyed(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("X-Quay-Key") != CommonquayKey {
			q.exception(http.StatusUnauthorized, "POL0001", "A policy error occurred: key")(w)
			return
		}
		next(w, r)
	}
}

// exception is how the standard reports errors: service exceptions (SVC) and
// policy exceptions (POL).
func (q *Commonquay) exception(status int, id, text string) func(http.ResponseWriter) {
	kind := "serviceException"
	if strings.HasPrefix(id, "POL") {
		kind = "policyException"
	}
	return func(w http.ResponseWriter) {
		answer(w, status, map[string]any{"requestError": map[string]any{kind: map[string]any{"messageId": id, "text": text}}})
	}
}

func (q *Commonquay) submit(w http.ResponseWriter, r *http.Request) {
	in, err := decode[struct {
		OutboundMessageRequest struct {
			Address                []string
			SenderAddress          string
			OutboundSMSTextMessage struct{ Message string }
			ClientCorrelator       string
			ReceiptRequest         struct{ NotifyURL, CallbackData string }
		}
	}](r)
	m := in.OutboundMessageRequest
	if err != nil || len(m.Address) != 1 || m.SenderAddress != r.PathValue("sender") || m.OutboundSMSTextMessage.Message == "" ||
		m.ClientCorrelator == "" ||
		!loopbackOnly(m.ReceiptRequest.NotifyURL) {
		q.exception(
			http.StatusBadRequest,
			"SVC0002",
			"Invalid input value for message part address, senderAddress, message, clientCorrelator or notifyURL",
		)(
			w,
		)
		return
	}
	number, ok := strings.CutPrefix(m.Address[0], "tel:")
	if !ok || !isNumber(number) {
		q.exception(http.StatusBadRequest, "SVC0004", "No valid addresses provided in message part address")(w)
		return
	}
	q.serve(
		w,
		r,
		[]offer{
			{
				From:   strings.TrimPrefix(m.SenderAddress, "tel:"),
				To:     number,
				Text:   m.OutboundSMSTextMessage.Message,
				Ref:    m.ClientCorrelator,
				Report: m.ReceiptRequest.NotifyURL,
			},
		},
		voice{
			taken: func(w http.ResponseWriter, all []verdict) {
				v := all[0]
				switch {
				case v.Refused == invalid:
					q.exception(http.StatusBadRequest, "SVC0004", "No valid addresses provided in message part address")(w)
				case v.Refused != "":
					q.exception(http.StatusForbidden, "POL0014", "The wording is not allowed")(w)
				default:
					url := "http://" + r.Host + r.URL.EscapedPath() + "/" + v.Entry.ID
					w.Header().Set("Location", url)
					answer(w, http.StatusCreated, map[string]any{"resourceReference": map[string]any{"resourceURL": url}})
				}
			},
			fault:    q.exception(http.StatusServiceUnavailable, "SVC1000", "No resources: nothing was accepted"),
			limited:  q.exception(http.StatusTooManyRequests, "POL1009", "Too many requests"),
			noCredit: q.exception(http.StatusForbidden, "POL1018", "The account has insufficient funds"),
			noKey:    q.exception(http.StatusUnauthorized, "POL0001", "A policy error occurred: key"),
		},
	)
}

func (q *Commonquay) info(e Entry) map[string]any {
	return map[string]any{"address": "tel:" + e.To, "deliveryStatus": commonquayWords[e.Status]}
}

func (q *Commonquay) infos(w http.ResponseWriter, r *http.Request) {
	e, ok := q.find(r.PathValue("id"))
	if !ok {
		q.exception(http.StatusNotFound, "SVC0004", "No such request")(w)
		return
	}
	answer(
		w,
		http.StatusOK,
		map[string]any{
			"deliveryInfoList": map[string]any{"resourceURL": "http://" + r.Host + r.URL.EscapedPath(), "deliveryInfo": []any{q.info(e)}},
		},
	)
}

func (q *Commonquay) notify(ctx context.Context, r report) bool {
	address, callback := r.Report, r.Ref
	if r.Forged {
		address = elsewhere(address)
	}
	if r.NoRef {
		callback = ""
	}
	return q.pushJSON(
		ctx,
		address,
		map[string]any{"deliveryInfoNotification": map[string]any{"callbackData": callback, "deliveryInfo": []any{q.info(r.Entry)},
			"link": []any{map[string]any{"rel": "OutboundMessageRequest", "href": "http://quay.invalid/requests/" + r.ID}}}},
	)
}

func (q *Commonquay) pushJSON(ctx context.Context, address string, value any) bool {
	body, _ := json.Marshal(value)
	request, err := http.NewRequestWithContext(ctx, "POST", address, bytes.NewReader(body))
	if err == nil {
		request.Header.Set("Content-Type", "application/json")
	}
	return q.deliver(request, err, done)
}

// notifyInbound pushes what somebody wrote back.
func (q *Commonquay) notifyInbound(ctx context.Context, m written) bool {
	return q.pushJSON(ctx, m.Report, map[string]any{"inboundMessageNotification": map[string]any{"inboundMessage": map[string]any{
		"senderAddress": "tel:" + m.From, "destinationAddress": m.To, "dateTime": m.At.Format(time.RFC3339),
		"messageId": m.ID, "inboundSMSTextMessage": map[string]any{"message": m.Text}}}})
}
