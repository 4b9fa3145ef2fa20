-- +goose Up
CREATE TABLE report_link (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    hash       bytea NOT NULL UNIQUE,
    report     uuid NOT NULL REFERENCES report,
    whom       text NOT NULL DEFAULT '',
    made_by    text NOT NULL,
    made_at    timestamptz NOT NULL,
    until      timestamptz NOT NULL,
    revoked_by text,
    revoked_at timestamptz,
    CHECK ((revoked_by IS NULL) = (revoked_at IS NULL))
);
CREATE INDEX report_link_of ON report_link (report, id);
COMMENT ON TABLE report_link IS 'Links by which a published report can be read without an account.';
COMMENT ON COLUMN report_link.hash IS 'SHA-256 of the token: the token itself is in the link alone.';
COMMENT ON COLUMN report_link.whom IS 'Whom it was made for.';

CREATE TABLE report_link_use (
    link   bigint NOT NULL REFERENCES report_link,
    happened_at timestamptz NOT NULL,
    form   text NOT NULL,
    source text NOT NULL
);
CREATE INDEX report_link_use_of ON report_link_use (link, happened_at);
COMMENT ON TABLE report_link_use IS 'When a link was opened, what was taken, and from which address.';

-- +goose Down
DROP TABLE report_link_use, report_link;
