-- +goose Up
-- What is told goes together once it is kept no longer.
ALTER TABLE delivery DROP CONSTRAINT delivery_notice_fkey, ADD CONSTRAINT delivery_notice_fkey FOREIGN KEY (notice) REFERENCES notice ON DELETE CASCADE;
ALTER TABLE delivery DROP CONSTRAINT delivery_summary_fkey, ADD CONSTRAINT delivery_summary_fkey FOREIGN KEY (summary) REFERENCES delivery ON DELETE SET NULL;
ALTER TABLE delivery DROP CONSTRAINT delivery_again_of_fkey, ADD CONSTRAINT delivery_again_of_fkey FOREIGN KEY (again_of) REFERENCES delivery ON DELETE SET NULL;
ALTER TABLE delivery_link DROP CONSTRAINT delivery_link_delivery_fkey, ADD CONSTRAINT delivery_link_delivery_fkey FOREIGN KEY (delivery) REFERENCES delivery ON DELETE CASCADE;
CREATE INDEX delivery_summary ON delivery (summary) WHERE summary IS NOT NULL;
CREATE INDEX delivery_again ON delivery (again_of) WHERE again_of IS NOT NULL;
CREATE INDEX notice_made ON notice (made_at);

-- +goose Down
DROP INDEX notice_made;
DROP INDEX delivery_again;
DROP INDEX delivery_summary;
ALTER TABLE delivery_link DROP CONSTRAINT delivery_link_delivery_fkey, ADD CONSTRAINT delivery_link_delivery_fkey FOREIGN KEY (delivery) REFERENCES delivery;
ALTER TABLE delivery DROP CONSTRAINT delivery_again_of_fkey, ADD CONSTRAINT delivery_again_of_fkey FOREIGN KEY (again_of) REFERENCES delivery;
ALTER TABLE delivery DROP CONSTRAINT delivery_summary_fkey, ADD CONSTRAINT delivery_summary_fkey FOREIGN KEY (summary) REFERENCES delivery;
ALTER TABLE delivery DROP CONSTRAINT delivery_notice_fkey, ADD CONSTRAINT delivery_notice_fkey FOREIGN KEY (notice) REFERENCES notice;
