-- +goose Up

-- Numbers that codes were asked for last, by or within one of something; and from when on there is something to judge.
ALTER TABLE passcode_counts ADD COLUMN asked bytea NOT NULL DEFAULT '', ADD COLUMN judge_at timestamptz;
CREATE INDEX passcode_counts_to_judge ON passcode_counts (judge_at) WHERE judge_at IS NOT NULL;

ALTER TABLE passcode_blocks DROP CONSTRAINT passcode_blocks_by_what_check;
ALTER TABLE passcode_blocks ADD CONSTRAINT passcode_blocks_by_what_check
    CHECK (by_what IN ('number', 'range', 'stretch', 'country', 'address', 'network'));

-- How far the texts of passcodes came is counted beside how far these did.
ALTER TABLE passcode_steps DROP CONSTRAINT passcode_steps_step_check;
ALTER TABLE passcode_steps ADD CONSTRAINT passcode_steps_step_check
    CHECK (step IN ('issued', 'again', 'accepted', 'delivered', 'checked', 'right'));

-- What is done when a rule finds something, in the place of what is usual.
CREATE TABLE passcode_rules (
    rule text PRIMARY KEY CHECK (rule IN ('sequence', 'untouched', 'asking', 'rise')),
    act  text NOT NULL CHECK (act IN ('off', 'alarm', 'slow', 'block'))
);
CREATE TRIGGER noted AFTER INSERT OR UPDATE OR DELETE ON passcode_rules FOR EACH ROW
    EXECUTE FUNCTION note_change('passcode_rule', 'rule');
CREATE TRIGGER changed AFTER INSERT OR UPDATE OR DELETE ON passcode_rules FOR EACH STATEMENT EXECUTE FUNCTION settings_changed();

-- What rules found. It stands until its time is over or it is lifted; what was lifted as a false alarm stays learnt.
CREATE TABLE passcode_alarms (
    id         uuid        PRIMARY KEY,
    rule       text        NOT NULL,
    by_what    text        NOT NULL,
    value      text        NOT NULL,
    act        text        NOT NULL CHECK (act IN ('alarm', 'slow', 'block')),
    raised_at  timestamptz NOT NULL,
    until_at   timestamptz NOT NULL,
    evidence   jsonb       NOT NULL,
    per_hour   float8      NOT NULL,
    lifted_at  timestamptz,
    lifted_by  text        NOT NULL DEFAULT '',
    lifted_why text        NOT NULL DEFAULT ''
);
CREATE INDEX passcode_alarms_about ON passcode_alarms (rule, by_what, value, until_at);
CREATE TRIGGER noted AFTER UPDATE ON passcode_alarms FOR EACH ROW
    EXECUTE FUNCTION note_change('passcode_alarm', 'value', 'evidence', 'until_at');
CREATE TRIGGER changed AFTER INSERT OR UPDATE OR DELETE ON passcode_alarms FOR EACH STATEMENT EXECUTE FUNCTION settings_changed();

-- What was not sent because of an alarm, and would have cost.
CREATE TABLE passcode_alarm_stops (
    alarm_id uuid   NOT NULL,
    currency text   NOT NULL, -- empty: there is no price
    n        bigint NOT NULL,
    micros   bigint NOT NULL,
    PRIMARY KEY (alarm_id, currency)
);

-- How many passcodes were used a minute after they were issued, in ten minutes each.
CREATE TABLE passcode_cohorts (
    began_at   timestamptz NOT NULL,
    gateway_id uuid        NOT NULL,
    country    text        NOT NULL,
    n          bigint      NOT NULL,
    used       bigint      NOT NULL,
    PRIMARY KEY (began_at, country, gateway_id)
);

-- The same of the last ones of a gateway and a country: what a route may prefer by.
CREATE TABLE passcode_conversions (
    gateway_id uuid        NOT NULL,
    country    text        NOT NULL,
    n          float8      NOT NULL,
    used       float8      NOT NULL,
    at         timestamptz NOT NULL,
    PRIMARY KEY (gateway_id, country)
);

-- Until when passcodes were looked at.
CREATE TABLE passcode_watch (
    one         boolean     PRIMARY KEY DEFAULT true CHECK (one),
    looked_till timestamptz NOT NULL
);
INSERT INTO passcode_watch SELECT true, date_trunc('minute', now());
