-- Honey house 1.0.0: what the bees bring home. Run it once.
BEGIN;
CREATE TABLE honey (
    hive  TEXT NOT NULL,
    kind  TEXT NOT NULL DEFAULT 'clover', -- or 'heather; late'
    jars  INTEGER NOT NULL DEFAULT 0
);
INSERT INTO honey (hive, kind, jars) VALUES ('upper', 'clover', 12), ('lower', 'heather; late', 4);
CREATE TRIGGER honey_tax AFTER INSERT ON honey BEGIN
    UPDATE trees SET yield = yield + 1 WHERE name = 'linden';
END;
COMMIT;
