-- +goose Up

ALTER TABLE definition DROP CONSTRAINT definition_kind_check;
ALTER TABLE definition ADD CONSTRAINT definition_kind_check
    CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment', 'network', 'credential', 'kit', 'mesh'));

CREATE TABLE findings (
    lane int NOT NULL,
    at   timestamptz NOT NULL,
    body jsonb NOT NULL,
    PRIMARY KEY (lane, at)
) PARTITION BY RANGE (at);
COMMENT ON TABLE findings IS 'What measurements saw beyond their measures: hops, a failed answer, a chain. A partition a day (UTC), kept as long as the measurements.';

ALTER TABLE measurement ADD COLUMN delay_s int NOT NULL DEFAULT 0;
COMMENT ON COLUMN measurement.delay_s IS 'Seconds from the measurement to its arrival here: late ones were kept by an agent that was cut off.';

CREATE TABLE secret (
    credential text PRIMARY KEY,
    sealed     bytea NOT NULL,
    changed_at timestamptz NOT NULL DEFAULT now(),
    changed_by text NOT NULL
);
COMMENT ON TABLE secret IS 'The secret of a credential, encrypted (AES-256-GCM, nonce first) with the key of the server''s data directory.';

CREATE TABLE report_in (
    check_id   text PRIMARY KEY,
    token_hash bytea NOT NULL UNIQUE,
    made_at    timestamptz NOT NULL DEFAULT now(),
    made_by    text NOT NULL
);
COMMENT ON TABLE report_in IS 'The token with which another system reports in to a check.';

CREATE TABLE roster (
    location text NOT NULL,
    from_at  timestamptz NOT NULL,
    agents   uuid[] NOT NULL,
    PRIMARY KEY (location, from_at)
);
COMMENT ON TABLE roster IS 'Which agents shared a location''s checks from an instant on; who holds a check follows from it.';

ALTER TABLE agent ADD COLUMN sockets text NOT NULL DEFAULT '';
COMMENT ON COLUMN agent.sockets IS 'What its sockets allow: raw, datagram ICMP or none.';
ALTER TABLE agent ADD COLUMN cut_off text NOT NULL DEFAULT '';
COMMENT ON COLUMN agent.cut_off IS 'Why it takes itself for cut off from the network, in words; empty when it is not.';

-- +goose Down
ALTER TABLE agent DROP COLUMN cut_off, DROP COLUMN sockets;
DROP TABLE roster, report_in, secret, findings;
ALTER TABLE measurement DROP COLUMN delay_s;
