-- +goose Up

-- How long messages took from the beginning of their submission until they were known to have arrived, as
-- histograms: by how much they change, and added up by hour and by day of arrival.
CREATE TABLE arrival_deltas (
    seq        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    hour       timestamptz NOT NULL, -- of the arrival
    cut_id     integer     NOT NULL,
    gateway_id uuid        NOT NULL,
    bucket     smallint    NOT NULL,
    n          integer     NOT NULL
);

CREATE TABLE arrivals (
    grain      text        NOT NULL CHECK (grain IN ('hour', 'day')),
    began_at   timestamptz NOT NULL,
    gateway_id uuid        NOT NULL,
    country    text        NOT NULL,
    kind       text        NOT NULL,
    bucket     smallint    NOT NULL,
    n          bigint      NOT NULL,
    PRIMARY KEY (grain, began_at, gateway_id, country, kind, bucket)
);
