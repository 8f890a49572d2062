package client

import (
	"context"
	"net/http"
	"net/url"
)

// Issue sends a one-time password. token, if given, makes a repetition of the same request harmless.
func (c *Client) Issue(ctx context.Context, n NewPasscode, token string) (p Passcode, err error) {
	var header http.Header
	if token != "" {
		header = http.Header{"Idempotency-Key": {token}}
	}
	return p, c.call(ctx, "POST", "/v1/passcodes", header, n, &p)
}

func passcodePath(id, rest string) string { return "/v1/passcodes/" + url.PathEscape(id) + rest }

// Check says whether a code is that of a passcode.
func (c *Client) Check(ctx context.Context, id, code string) (v PasscodeVerdict, err error) {
	return v, c.call(ctx, "POST", passcodePath(id, "/check"), nil, PasscodeTyped{Code: code}, &v)
}

// CheckFor does so for the newest passcode of a number for a purpose.
func (c *Client) CheckFor(ctx context.Context, to, purpose, code string) (v PasscodeVerdict, err error) {
	return v, c.call(ctx, "POST", "/v1/passcodes/check", nil, PasscodeTyped{To: to, Purpose: purpose, Code: code}, &v)
}

// Again sends the same code again; although the last text was delivered, if anyway.
func (c *Client) Again(ctx context.Context, id string, anyway bool) (p Passcode, err error) {
	return c.AgainBy(ctx, id, PasscodeAgain{Anyway: anyway})
}

// AgainBy sends the same code again, as a text or spoken in a call.
func (c *Client) AgainBy(ctx context.Context, id string, how PasscodeAgain) (p Passcode, err error) {
	return p, c.call(ctx, "POST", passcodePath(id, "/again"), nil, how, &p)
}

// Suspicion says how suspicious it would be to ask for a passcode for a number. It counts for nothing.
func (c *Client) Suspicion(ctx context.Context, w WouldBePasscode) (s Suspicion, err error) {
	return s, c.call(ctx, "POST", "/v1/passcode-suspicion", nil, w, &s)
}

// PasscodeRules lists what is done when a rule finds what looks like fraud.
func (c *Client) PasscodeRules(ctx context.Context) (l List[PasscodeRule], err error) {
	return l, c.call(ctx, "GET", "/v1/passcode-rules", nil, nil, &l)
}

// SetPasscodeRules sets it, in the place of all that was set before; what is not among it is as usual.
func (c *Client) SetPasscodeRules(ctx context.Context, set []PasscodeRule) (l List[PasscodeRule], err error) {
	return l, c.call(ctx, "PUT", "/v1/passcode-rules", nil, PasscodeRules{set}, &l)
}

// PasscodeAlarms lists the alarms that stand, the newest first; also those that are over or were lifted, if all.
func (c *Client) PasscodeAlarms(ctx context.Context, all bool) (l List[PasscodeAlarm], err error) {
	q := ""
	if all {
		q = "?all=true"
	}
	return l, c.call(ctx, "GET", "/v1/passcode-alarms"+q, nil, nil, &l)
}

func alarmPath(id, rest string) string { return "/v1/passcode-alarms/" + url.PathEscape(id) + rest }

// PasscodeAlarm is one alarm.
func (c *Client) PasscodeAlarm(ctx context.Context, id string) (a PasscodeAlarm, err error) {
	return a, c.call(ctx, "GET", alarmPath(id, ""), nil, nil, &a)
}

// LiftPasscodeAlarm ends an alarm as a false one.
func (c *Client) LiftPasscodeAlarm(ctx context.Context, id, why string) (a PasscodeAlarm, err error) {
	return a, c.call(ctx, "POST", alarmPath(id, "/lift"), nil, Why{why}, &a)
}

// RestorePasscodeAlarm takes that back, with what was learnt from it.
func (c *Client) RestorePasscodeAlarm(ctx context.Context, id string) (a PasscodeAlarm, err error) {
	return a, c.call(ctx, "POST", alarmPath(id, "/restore"), nil, Why{}, &a)
}

// ActOnPasscodeAlarm changes what is done because of an alarm that stands: alarm, slow or block.
func (c *Client) ActOnPasscodeAlarm(ctx context.Context, id, act string) (a PasscodeAlarm, err error) {
	return a, c.call(ctx, "POST", alarmPath(id, "/act"), nil, PasscodeAct{act}, &a)
}

// EndPasscode ends a passcode: no code is right any more.
func (c *Client) EndPasscode(ctx context.Context, id string) (p Passcode, err error) {
	return p, c.call(ctx, "DELETE", passcodePath(id, ""), nil, nil, &p)
}

// Passcode is how a passcode stands.
func (c *Client) Passcode(ctx context.Context, id string) (p Passcode, err error) {
	return p, c.call(ctx, "GET", passcodePath(id, ""), nil, nil, &p)
}

// Passcodes lists passcodes, the newest first; of a number and for a purpose, if these are given.
func (c *Client) Passcodes(ctx context.Context, to, purpose, cursor string, limit int) (l List[Passcode], err error) {
	q := choose(url.Values{}, map[string]string{"to": to, "purpose": purpose, "cursor": cursor}, limit)
	return l, c.call(ctx, "GET", "/v1/passcodes"+q, nil, nil, &l)
}

// PasscodeFunnel tells how passcodes fared, side by side by gateway, country, purpose, template or hour. Chosen can be by
// gateway, country, template and time.
func (c *Client) PasscodeFunnel(ctx context.Context, f Filter, purpose, by string) (r PasscodeFunnel, err error) {
	q := f.values()
	for name, value := range map[string]string{"by": by, "purpose": purpose} {
		if value != "" {
			q.Set(name, value)
		}
	}
	return r, c.call(ctx, "GET", "/v1/passcode-funnel?"+q.Encode(), nil, nil, &r)
}

// PasscodeLimits lists the limits that hold.
func (c *Client) PasscodeLimits(ctx context.Context) (l List[PasscodeLimit], err error) {
	return l, c.call(ctx, "GET", "/v1/passcode-limits", nil, nil, &l)
}

// SetPasscodeLimits puts limits in the place of all that were set before; what is not among them is as usual.
func (c *Client) SetPasscodeLimits(ctx context.Context, set []PasscodeLimit) (l List[PasscodeLimit], err error) {
	return l, c.call(ctx, "PUT", "/v1/passcode-limits", nil, PasscodeLimits{set}, &l)
}

// PasscodeBlocks lists what gets no passcodes; also what did once, if all.
func (c *Client) PasscodeBlocks(ctx context.Context, all bool) (l List[PasscodeBlock], err error) {
	q := ""
	if all {
		q = "?all=true"
	}
	return l, c.call(ctx, "GET", "/v1/passcode-blocks"+q, nil, nil, &l)
}

// BlockPasscodes lets something get no passcodes.
func (c *Client) BlockPasscodes(ctx context.Context, n NewPasscodeBlock) (b PasscodeBlock, err error) {
	return b, c.call(ctx, "POST", "/v1/passcode-blocks", nil, n, &b)
}

// LiftPasscodeBlock ends a block.
func (c *Client) LiftPasscodeBlock(ctx context.Context, id, why string) (b PasscodeBlock, err error) {
	return b, c.call(ctx, "POST", "/v1/passcode-blocks/"+url.PathEscape(id)+"/lift", nil, Why{why}, &b)
}
