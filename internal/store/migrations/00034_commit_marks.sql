-- +goose Up

-- The processes that use this database, or did.
CREATE TABLE instances (
    id         uuid        PRIMARY KEY,
    name       text        NOT NULL,
    started_at timestamptz NOT NULL,
    seen_at    timestamptz NOT NULL,
    ended_at   timestamptz
);

-- An instance has a few slots, and a slot one transaction at a time. Each transaction that writes adds the next mark of its
-- slot. So the outcome of a COMMIT whose answer was lost can be looked up; and where the mark before is missing, the database
-- is not as the instance left it. Rows are added and removed and never updated: an update would have to pass all versions
-- that an old snapshot, of a dump say, keeps alive.
CREATE TABLE commit_marks (
    instance_id uuid     NOT NULL,
    slot        smallint NOT NULL,
    mark        bigint   NOT NULL,
    -- No transaction: its outcome was looked up, and it cannot commit any more.
    fence       boolean  NOT NULL DEFAULT false,
    PRIMARY KEY (instance_id, slot, mark)
);

-- +goose StatementBegin
CREATE FUNCTION add_commit_mark(instance uuid, in_slot smallint, next_mark bigint) RETURNS boolean LANGUAGE plpgsql AS $$
BEGIN
    IF pg_current_xact_id_if_assigned() IS NULL THEN
        RETURN false; -- it wrote nothing
    END IF;
    IF NOT EXISTS (SELECT FROM commit_marks WHERE instance_id = instance AND slot = in_slot AND mark = next_mark - 1) THEN
        RAISE EXCEPTION 'mark % of slot % is missing: the database is not as this instance left it', next_mark - 1, in_slot
            USING ERRCODE = 'CP001';
    END IF;
    INSERT INTO commit_marks (instance_id, slot, mark) VALUES (instance, in_slot, next_mark);
    IF next_mark % 256 = 0 THEN
        DELETE FROM commit_marks WHERE instance_id = instance AND slot = in_slot AND mark BETWEEN next_mark - 600 AND next_mark - 2;
    END IF;
    RETURN true;
END $$;
-- +goose StatementEnd
