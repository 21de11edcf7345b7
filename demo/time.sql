-- The history of Hollowmere Garden's seed prices, commit by commit, and the bays of its greenhouse.
-- Run it over the demo data: garden-gate run --db garden.db --data raw=demo/data demo/time.sql

-- Commit 1: a table that keeps what was.
CREATE TABLE seed_price (
    taxon_id INTEGER PRIMARY KEY,
    price NUMERIC(6,2) NOT NULL
) WITH SYSTEM VERSIONING;

-- Commit 2: the price list of 2015.
INSERT INTO seed_price
SELECT taxon_id, price
FROM (
    SELECT taxon_id, price, ROW_NUMBER() OVER (PARTITION BY taxon_id ORDER BY valid_from DESC) AS age
    FROM raw.seed_price
    WHERE valid_from < DATE '2016-01-01'
) AS latest
WHERE age = 1;

-- Commit 3: the price list of 2016: new taxa, and prices that have changed.
MERGE INTO seed_price AS p
USING (
    SELECT taxon_id, price, ROW_NUMBER() OVER (PARTITION BY taxon_id ORDER BY valid_from DESC) AS age
    FROM raw.seed_price
    WHERE valid_from < DATE '2017-01-01'
) AS latest
ON p.taxon_id = latest.taxon_id
WHEN MATCHED AND latest.age = 1 AND p.price <> latest.price THEN UPDATE SET price = latest.price
WHEN NOT MATCHED AND latest.age = 1 THEN INSERT VALUES (latest.taxon_id, latest.price);

-- Commit 4: the price list of 2018.
MERGE INTO seed_price AS p
USING (
    SELECT taxon_id, price, ROW_NUMBER() OVER (PARTITION BY taxon_id ORDER BY valid_from DESC) AS age
    FROM raw.seed_price
    WHERE valid_from < DATE '2019-01-01'
) AS latest
ON p.taxon_id = latest.taxon_id
WHEN MATCHED AND latest.age = 1 AND p.price <> latest.price THEN UPDATE SET price = latest.price
WHEN NOT MATCHED AND latest.age = 1 THEN INSERT VALUES (latest.taxon_id, latest.price);

-- Commit 5: everything dearer than 15 goes out of the list.
DELETE FROM seed_price WHERE price > 15;

-- Commit 6: five per cent more, by mistake also for what was raised already.
UPDATE seed_price SET price = ROUND(price * 1.05, 2);

-- Commit 7: the mistake is put right for what had been raised in commit 4.
UPDATE seed_price
SET price = (
    SELECT old.price FROM seed_price FOR SYSTEM_TIME AS OF COMMIT 5 AS old WHERE old.taxon_id = seed_price.taxon_id
)
WHERE taxon_id IN (SELECT taxon_id FROM CHANGES OF seed_price BETWEEN COMMIT 4 AND COMMIT 4);

-- Commit 8: the bays of the greenhouse. No two bookings of a bay overlap.
CREATE TABLE bay_booking (
    bay VARCHAR(8),
    gardener_id INTEGER,
    starts DATE,
    ends DATE,
    purpose VARCHAR(20),
    PERIOD FOR stay (starts, ends),
    PRIMARY KEY (bay, stay WITHOUT OVERLAPS)
);

-- Commit 9: the bookings that nobody else had before.
INSERT INTO bay_booking
SELECT bay, gardener_id, starts, ends, purpose
FROM raw.bay_booking AS b
WHERE ends IS NOT NULL
AND NOT EXISTS (
    SELECT 1 FROM raw.bay_booking AS earlier
    WHERE earlier.bay = b.bay
    AND earlier.booking_id < b.booking_id
    AND PERIOD (earlier.starts, COALESCE(earlier.ends, DATE '9999-12-31')) OVERLAPS PERIOD (b.starts, b.ends)
);
