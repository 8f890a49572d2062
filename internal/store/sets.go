package store

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/google/uuid"
	"gorm.io/gorm"
)

// Sets travel as one parameter. A statement with a placeholder for every value
// would be another statement for every size of set, and PostgreSQL would have
// to parse and plan each anew.

// rows writes records as one parameter for jsonb_to_recordset and its like.
func rows[T any](records []T) string {
	encoded, err := json.Marshal(records)
	if err != nil {
		panic(fmt.Sprintf("store: a record that is no JSON: %v", err)) // records are plain values
	}
	return string(encoded)
}

// insert writes records into a table whose columns are their json names.
func insert[T any](db *gorm.DB, table string, records []T) error {
	if len(records) == 0 {
		return nil
	}
	return db.Exec(fmt.Sprintf("INSERT INTO %s SELECT * FROM jsonb_populate_recordset(NULL::%s, ?::jsonb)", table, table), rows(records)).Error
}

// list writes ids as one parameter, an array.
func list(ids []uuid.UUID) string {
	words := make([]string, len(ids))
	for i, id := range ids {
		words[i] = id.String()
	}
	return "{" + strings.Join(words, ",") + "}"
}

// gatewayRef is what a gateway calls a message.
type gatewayRef struct {
	Ref     string    `json:"ref"`
	Gateway uuid.UUID `json:"gateway"`
}

// refRows reads gatewayRefs from a parameter made by rows.
const refRows = "SELECT ref, gateway FROM jsonb_to_recordset(?::jsonb) AS refs (ref text, gateway uuid)"

// Bytes are bytes that PostgreSQL reads from JSON as it writes them.
type Bytes []byte

// MarshalJSON writes PostgreSQL's hex form.
func (b Bytes) MarshalJSON() ([]byte, error) {
	return []byte(`"\\x` + hex.EncodeToString(b) + `"`), nil
}
