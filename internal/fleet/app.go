package fleet

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"
)

// AppSecret is what the practice applications and the service sign with: whsec_ and base64.
const AppSecret = "whsec_TGFudGVybmhvbG0gRmVycmllcycgcHJhY3RpY2U=" // #nosec G101 -- of the practice fleet, where nothing is real

const (
	appBodyMost = 1 << 20
	appKeeps    = 10_000 // messages
	appLate     = 5 * time.Minute
)

// App is an application that is told of events, as Standard Webhooks says.
type App struct {
	mu    sync.Mutex
	taken int
	last  map[string]string // the last type, by the message that it is about
}

// Told is how many events it took, and the last type about a message.
func (a *App) Told(message string) (taken int, last string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.taken, a.last[message]
}

// appRoutes are the applications of the ferries: the booking system takes what is signed, the kiosk is closed.
func (f *Fleet) appRoutes(mux *http.ServeMux) {
	mux.HandleFunc("POST /apps/booking/events", f.Booking.events)
	mux.HandleFunc("POST /apps/kiosk/events", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusServiceUnavailable, map[string]any{"error": "the kiosk is closed for the winter"})
	})
}

func (a *App) events(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, appBodyMost))
	if err != nil || !appSigned(r.Header, body) {
		answer(w, http.StatusUnauthorized, map[string]any{"error": "this is not signed with our secret, or too old"})
		return
	}
	var event struct {
		Type string
		Data struct{ ID string }
	}
	if err := json.Unmarshal(body, &event); err != nil {
		answer(w, http.StatusBadRequest, map[string]any{"error": "this is not JSON"})
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.taken++
	if _, known := a.last[event.Data.ID]; known || len(a.last) < appKeeps {
		a.last[event.Data.ID] = event.Type
	}
	w.WriteHeader(http.StatusNoContent)
}

func appSigned(h http.Header, body []byte) bool {
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(AppSecret, "whsec_"))
	if err != nil {
		return false
	}
	at, err := strconv.ParseInt(h.Get("webhook-timestamp"), 10, 64)
	if err != nil || time.Since(time.Unix(at, 0)).Abs() > appLate {
		return false
	}
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%s.%d.%s", h.Get("webhook-id"), at, body)
	want := "v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil))
	for one := range strings.FieldsSeq(h.Get("webhook-signature")) {
		if hmac.Equal([]byte(one), []byte(want)) {
			return true
		}
	}
	return false
}
