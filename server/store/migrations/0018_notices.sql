-- +goose Up
ALTER TABLE definition DROP CONSTRAINT definition_kind_check;
ALTER TABLE definition ADD CONSTRAINT definition_kind_check CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment',
    'network', 'credential', 'kit', 'pair-plan', 'team', 'customer', 'contract', 'holiday-list',
    'relay', 'contact-method', 'pool', 'notice-plan'));

CREATE TABLE person_method (
    id          uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    person      uuid NOT NULL REFERENCES person,
    kind        text NOT NULL CHECK (kind IN ('mail', 'sms')),
    address     text NOT NULL,
    active      jsonb,
    made_at     timestamptz NOT NULL,
    verified_at timestamptz,
    code_hash   bytea,
    code_until  timestamptz,
    code_tries  int NOT NULL DEFAULT 0,
    UNIQUE (person, kind, address)
);
COMMENT ON TABLE person_method IS 'Contact methods that people have of their own.';
COMMENT ON COLUMN person_method.active IS 'Hours in which it may be used, as a weekly plan; null: always.';
COMMENT ON COLUMN person_method.verified_at IS 'When its owner typed the code that was sent there; null: never.';
COMMENT ON COLUMN person_method.code_hash IS 'SHA-256 of the code that was sent last, good until code_until, for a few tries.';

CREATE TABLE notice (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    incident bigint REFERENCES incident,
    plan     text NOT NULL,
    key      text NOT NULL,
    what     text NOT NULL,
    round    int NOT NULL,
    step     int NOT NULL,
    nth      int NOT NULL,
    severity text NOT NULL DEFAULT '',
    cause    bigint,
    due_at   timestamptz NOT NULL,
    made_at  timestamptz NOT NULL,
    UNIQUE (incident, plan, key)
);
COMMENT ON TABLE notice IS 'What was due to be told, once each: see core/notice.';
COMMENT ON COLUMN notice.incident IS 'Null: it is about none, such as a summary.';
COMMENT ON COLUMN notice.plan IS 'Id of the notice plan by which it was due.';

CREATE TABLE delivery (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    notice        bigint NOT NULL REFERENCES notice,
    incident      bigint REFERENCES incident,
    person        uuid REFERENCES person,
    kind          text NOT NULL,
    method        text NOT NULL,
    address       text NOT NULL,
    state         text NOT NULL CHECK (state IN ('queued', 'held', 'sent', 'failed', 'suppressed')),
    why           text NOT NULL DEFAULT '',
    subject       text NOT NULL DEFAULT '',
    text          text NOT NULL DEFAULT '',
    due_at        timestamptz NOT NULL,
    made_at       timestamptz NOT NULL,
    next_at       timestamptz NOT NULL,
    claimed_until timestamptz,
    tries         int NOT NULL DEFAULT 0,
    maybe_twice   boolean NOT NULL DEFAULT false,
    done_at       timestamptz,
    answer        text NOT NULL DEFAULT '',
    summary       bigint REFERENCES delivery,
    again_of      bigint REFERENCES delivery,
    by            text NOT NULL DEFAULT '',
    read_at       timestamptz
);
CREATE INDEX delivery_queued ON delivery (next_at, id) WHERE state = 'queued';
CREATE INDEX delivery_order ON delivery (incident, kind, address, id) WHERE state = 'queued';
CREATE INDEX delivery_held ON delivery (id) WHERE state = 'held' AND summary IS NULL;
CREATE INDEX delivery_incident ON delivery (incident, id);
CREATE INDEX delivery_person ON delivery (person, id) WHERE kind = 'inbox';
CREATE INDEX delivery_notice ON delivery (notice);
COMMENT ON TABLE delivery IS 'One notice to one receiver by one contact method: what became of it.';
COMMENT ON COLUMN delivery.person IS 'Whose contact method it is; null: a shared one, or nobody is reached.';
COMMENT ON COLUMN delivery.kind IS 'Of the contact method; empty where nobody is reached.';
COMMENT ON COLUMN delivery.method IS 'Id of the contact method; empty: the inbox.';
COMMENT ON COLUMN delivery.why IS 'Why it was suppressed or held, or failed.';
COMMENT ON COLUMN delivery.subject IS 'As it was sent last; so is text.';
COMMENT ON COLUMN delivery.next_at IS 'Before then it is not tried.';
COMMENT ON COLUMN delivery.claimed_until IS 'A server sends it now, and has until then; if it has passed, that server died in the middle.';
COMMENT ON COLUMN delivery.maybe_twice IS 'A server died after it may have sent it, and it was sent again.';
COMMENT ON COLUMN delivery.answer IS 'What the remote said, or what went wrong last.';
COMMENT ON COLUMN delivery.summary IS 'Of a held one: the delivery that sums it up.';
COMMENT ON COLUMN delivery.again_of IS 'The delivery that a person had sent again; by is who.';

CREATE TABLE delivery_link (
    hash     bytea PRIMARY KEY,
    delivery bigint NOT NULL REFERENCES delivery,
    until    timestamptz NOT NULL,
    used_at  timestamptz
);
CREATE INDEX delivery_link_of ON delivery_link (delivery);
COMMENT ON TABLE delivery_link IS 'Links in messages that acknowledge an incident once, by the SHA-256 of their token.';

CREATE TABLE hold (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    about    text NOT NULL CHECK (about IN ('service', 'check')),
    subject  text NOT NULL,
    reason   text NOT NULL,
    by       text NOT NULL,
    from_at  timestamptz NOT NULL,
    until_at timestamptz NOT NULL CHECK (until_at > from_at),
    ended_at timestamptz,
    ended_by text NOT NULL DEFAULT ''
);
CREATE INDEX hold_until ON hold (until_at);
COMMENT ON TABLE hold IS 'Times in which a person stopped the notices of a check, or of a service and its checks; no account knows of them.';
COMMENT ON COLUMN hold.ended_at IS 'When a person ended it before its time; null: nobody did.';

-- +goose Down
UPDATE revision SET body = body - 'notice_plan' WHERE kind = 'team';
UPDATE revision SET body = body - 'notices' WHERE kind = 'service';
DELETE FROM revision WHERE kind IN ('relay', 'contact-method', 'pool', 'notice-plan');
DELETE FROM definition WHERE kind IN ('relay', 'contact-method', 'pool', 'notice-plan');
ALTER TABLE definition DROP CONSTRAINT definition_kind_check;
ALTER TABLE definition ADD CONSTRAINT definition_kind_check CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment',
    'network', 'credential', 'kit', 'pair-plan', 'team', 'customer', 'contract', 'holiday-list'));
DROP TABLE hold;
DROP TABLE delivery_link;
DROP TABLE delivery;
DROP TABLE notice;
DROP TABLE person_method;
