-- +goose Up

-- Blocks of sites: the first 48 bits of an IPv6 address.
ALTER TABLE passcode_blocks DROP CONSTRAINT passcode_blocks_by_what_check, ADD CONSTRAINT passcode_blocks_by_what_check
    CHECK (by_what IN ('number', 'range', 'stretch', 'country', 'address', 'network', 'site'));
