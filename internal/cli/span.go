package cli

import (
	"time"

	"github.com/spf13/pflag"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/span"
)

// spanValue is a span of time as an option: 90, 30s, 5m or 48h, and where it may be,
// 0 for none.
type spanValue struct {
	to   *time.Duration
	none bool
}

func (v spanValue) String() string {
	if v.to == nil || *v.to == 0 {
		return ""
	}
	return span.Format(*v.to)
}

func (v spanValue) Set(given string) (err error) {
	if v.none && given == "0" {
		*v.to = 0
		return nil
	}
	*v.to, err = span.Parse(given)
	return err
}

func (spanValue) Type() string { return "span" }

// spanVar defines an option that is a span of time.
func spanVar(f *pflag.FlagSet, to *time.Duration, name string, usual time.Duration, help string) {
	*to = usual
	f.Var(spanValue{to: to}, name, help)
}

// wireSpan is a span of time as an option that the service is told as it was given.
type wireSpan struct{ to *client.Span }

func (v wireSpan) String() string {
	if v.to == nil {
		return ""
	}
	return string(*v.to)
}

func (v wireSpan) Set(given string) error {
	_, err := span.Parse(given)
	*v.to = client.Span(given)
	return err
}

func (wireSpan) Type() string { return "span" }

// configured reads what an option that is a span of time comes to: from flag,
// environment or file.
func (a *app) configured(flags *pflag.FlagSet, name string) (time.Duration, error) {
	option, _ := flags.Lookup(name).Value.(spanValue)
	var d time.Duration
	given := spanValue{&d, option.none}
	if value := a.config.GetString(name); value != "" {
		if err := given.Set(value); err != nil {
			return 0, usagef("--%s: %s", name, fault.Why(err))
		}
	}
	return d, nil
}

// spanWords writes a span as the service gives it for people.
func spanWords(given client.Span) string {
	d, err := span.Parse(string(given))
	if err != nil {
		return string(given)
	}
	return span.Words(d)
}
