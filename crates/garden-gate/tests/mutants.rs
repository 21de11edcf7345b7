//! Statements of every form with words omitted, doubled, exchanged and cut off: each is run or refused with an error that has a
//! place in the text, and nothing else ever happens.

use crate::random_queries::Draw;
use garden_gate::{Database, Session, SqlState};

/// What the statements below are about.
const SETUP: &str = "CREATE SCHEMA shed; CREATE TABLE bed (id INTEGER PRIMARY KEY, name VARCHAR(9), sun VARCHAR(9) DEFAULT 'shade', area NUMERIC(5,2));
    CREATE TABLE task (id INTEGER, bed INTEGER REFERENCES bed (id) DEFERRABLE, day DATE, hours INTEGER);
    INSERT INTO bed VALUES (1, 'Fern', 'shade', 10), (2, 'Scree', 'sun', NULL); INSERT INTO task VALUES (1, 1, DATE '2024-02-29', 3);
    CREATE VIEW shady AS SELECT id, name FROM bed WHERE sun = 'shade'; CREATE SEQUENCE s;
    CREATE FUNCTION of_bed (b INTEGER) RETURNS TABLE (id INTEGER) RETURN SELECT id FROM task WHERE bed = b";

/// Statements that are right; their words are parted by blanks.
const STATEMENTS: &[&str] = &[
    "SELECT DISTINCT b . name AS n , COUNT ( * ) FILTER ( WHERE hours > 1 ) FROM bed AS b LEFT JOIN task AS t ON t . bed = b . id GROUP BY b . name HAVING COUNT ( * ) > 0 ORDER BY n DESC NULLS LAST OFFSET 0 ROWS FETCH FIRST 3 ROWS ONLY",
    "SELECT id , FIRST_VALUE ( area ) OVER ( PARTITION BY sun ORDER BY area ROWS BETWEEN 1 PRECEDING AND CURRENT ROW EXCLUDE TIES ) FROM bed",
    "SELECT SUM ( hours ) OVER w FROM task WINDOW w AS ( PARTITION BY bed ORDER BY day RANGE BETWEEN INTERVAL '1' DAY PRECEDING AND CURRENT ROW )",
    "WITH RECURSIVE r ( n , p ) AS ( SELECT id , CAST ( name AS VARCHAR ( 30 ) ) FROM bed UNION ALL SELECT n + 1 , p || '!' FROM r WHERE n < 4 ) SEARCH DEPTH FIRST BY n SET o CYCLE n SET c TO 'y' DEFAULT 'n' USING path SELECT * FROM r",
    "SELECT * FROM bed NATURAL JOIN ( VALUES ( 1 , 'x' ) , ( 2 , 'y' ) ) AS v ( id , w ) CROSS JOIN LATERAL ( SELECT MAX ( hours ) AS m FROM task WHERE bed = id ) AS l",
    "SELECT id FROM bed UNION ALL SELECT bed FROM task EXCEPT SELECT 2 INTERSECT ALL VALUES 1 ORDER BY 1",
    "SELECT CASE sun WHEN 'sun' , 'x' THEN 1 WHEN > 'a' THEN 2 ELSE 3 END , CASE WHEN area IS NULL THEN TRUE END FROM bed",
    "SELECT name FROM bed WHERE id IN ( SELECT bed FROM task ) AND NOT EXISTS ( SELECT 1 FROM task WHERE hours > ALL ( SELECT id FROM bed ) ) OR area BETWEEN SYMMETRIC 3 AND 1",
    "SELECT name LIKE 'F!%' ESCAPE '!' , name SIMILAR TO '(F|S)%' , name LIKE_REGEX '^f' FLAG 'i' , name IS DISTINCT FROM sun FROM bed",
    "SELECT SUBSTRING ( name FROM 2 FOR 3 ) , TRIM ( BOTH 'x' FROM name ) , OVERLAY ( name PLACING 'a' FROM 1 ) , POSITION ( 'e' IN name ) , EXTRACT ( DAY FROM DATE '2024-02-29' ) FROM bed",
    "SELECT LISTAGG ( name , ', ' ON OVERFLOW TRUNCATE '…' WITH COUNT ) WITHIN GROUP ( ORDER BY id ) , PERCENTILE_CONT ( 0.5 ) WITHIN GROUP ( ORDER BY area ) FROM bed",
    "SELECT GROUPING ( sun ) , COUNT ( * ) FROM bed GROUP BY GROUPING SETS ( ROLLUP ( sun , name ) , CUBE ( sun ) , ( ) )",
    "SELECT ARRAY [ 1 , 2 ] [ 1 ] , ROW ( 1 , 'a' ) , u FROM UNNEST ( ARRAY [ 3 , 4 ] ) WITH ORDINALITY AS t ( u , o ) , SERIES ( 1 , 3 ) AS q",
    "SELECT * FROM bed AS b TABLESAMPLE BERNOULLI ( 50 ) REPEATABLE ( 3 ) , TABLE ( of_bed ( b . id ) ) AS f",
    "SELECT n . id FROM FINAL TABLE ( UPDATE bed SET area = 1 WHERE id = 1 ) AS n",
    "SELECT CAST ( '2024-02-29' AS DATE FORMAT 'YYYY-MM-DD' ) , CURRENT_TIMESTAMP ( 3 ) AT TIME ZONE '+02:00' , INTERVAL '1 02:03' DAY TO MINUTE , TIME '10:00:00+01:00' , NEXT VALUE FOR s",
    "INSERT INTO bed ( id , name , sun ) VALUES ( 3 , 'Bog' , DEFAULT ) , ( 4 , NULL , 'sun' ) SKIP DUPLICATES RETURNING NEW . id , OLD . name AS was",
    "INSERT INTO bed SELECT id + 10 , name , sun , area FROM bed WHERE area IS NOT NULL REPLACE DUPLICATES",
    "WITH x AS ( SELECT 1 AS i ) UPDATE bed AS b SET ( name , sun ) = ( SELECT 'a' , 'b' FROM x ) , area = DEFAULT WHERE b . id IN ( SELECT i FROM x ) RETURNING *",
    "DELETE FROM task AS t WHERE t . hours > 2 AND day = DATE '2024-02-29'",
    "MERGE INTO bed AS b USING ( VALUES ( 1 , 'New' ) , ( 9 , 'Ivy' ) ) AS v ( i , n ) ON b . id = v . i WHEN MATCHED AND b . sun = 'x' THEN DELETE WHEN MATCHED THEN UPDATE SET name = n WHEN NOT MATCHED THEN INSERT ( id , name ) VALUES ( i , n )",
    "TRUNCATE TABLE task RESTART IDENTITY",
    "CREATE TABLE tool ( id INTEGER GENERATED ALWAYS AS IDENTITY ( START WITH 5 INCREMENT BY 2 ) , w NUMERIC ( 4 , 1 ) NOT NULL CONSTRAINT heavy CHECK ( w > 0 ) , t NUMERIC ( 9 , 1 ) GENERATED ALWAYS AS ( w * 2 ) , h DATE HIDDEN , UNIQUE NULLS NOT DISTINCT ( w , h ) , FOREIGN KEY ( id ) REFERENCES bed MATCH FULL ON DELETE SET NULL ON UPDATE CASCADE INITIALLY DEFERRED )",
    "CREATE LOCAL TEMPORARY TABLE mine ( a , b ) AS SELECT id , name FROM bed WITH NO DATA ON COMMIT DELETE ROWS",
    "CREATE UNIQUE INDEX IF NOT EXISTS i ON bed ( UPPER ( name ) DESC NULLS LAST , id ) INCLUDE ( area )",
    "CREATE OR REPLACE VIEW shed . w ( a ) AS SELECT id FROM bed WHERE area > 3 WITH LOCAL CHECK OPTION",
    "CREATE SEQUENCE shed . q AS INTEGER START WITH 3 INCREMENT BY -2 MINVALUE -9 MAXVALUE 3 CYCLE",
    "CREATE DOMAIN plot AS INTEGER DEFAULT 1 NOT NULL CONSTRAINT small CHECK ( VALUE < 10 )",
    "CREATE FUNCTION f ( a INTEGER , b VARCHAR ( 3 ) ) RETURNS TABLE ( x INTEGER ) LANGUAGE SQL RETURN SELECT id FROM bed WHERE id = a AND name = b",
    "ALTER TABLE bed ADD COLUMN extra TIMESTAMP WITH TIME ZONE DEFAULT TIMESTAMP '2024-01-01 00:00:00+00:00'",
    "ALTER TABLE bed ALTER COLUMN area SET DATA TYPE NUMERIC ( 7 , 3 )",
    "ALTER TABLE task ADD CONSTRAINT positive CHECK ( hours > 0 )",
    "ALTER SEQUENCE s RESTART WITH 7 NO CYCLE",
    "DROP TABLE IF EXISTS task CASCADE",
    "COMMENT ON COLUMN bed . name IS 'As on the sign'",
    "START TRANSACTION ISOLATION LEVEL READ COMMITTED , READ ONLY",
    "SET CONSTRAINTS ALL DEFERRED",
    "SET PATH shed , home",
    "SET recursion_limit = 50",
    "LET n = 3 + 4",
    "SHOW SETTINGS",
];

fn session() -> Session {
    let mut session = Database::in_memory().session();
    session.run(SETUP).unwrap();
    session.set("time_limit", 2000).unwrap();
    session.set("recursion_limit", 100).unwrap();
    session
}

/// A statement with something done to one of its words.
fn mutant(draw: &mut Draw, words: &[&str]) -> String {
    let mut words = words.to_vec();
    let at = draw.below(words.len());
    match draw.below(6) {
        0 => {
            words.remove(at);
        }
        1 => words.insert(at, words[at]),
        2 => words.truncate(at),
        3 => {
            let other = draw.below(words.len());
            words.swap(at, other);
        }
        4 => {
            let from: Vec<&str> = draw.pick(STATEMENTS).split(' ').collect();
            words[at] = draw.word(&from.iter().map(|word| leaked(word)).collect::<Vec<_>>());
        }
        _ => words.insert(
            at,
            draw.word(&["(", ")", ",", "NULL", "'", "\"", "SELECT", "-1", ".", ";", "99999999999999999999", "ü"]),
        ),
    }
    words.join(" ")
}

/// A word of the table above: it lives as long as the tests.
fn leaked(word: &str) -> &'static str {
    STATEMENTS.iter().flat_map(|known| known.split(' ')).find(|known| *known == word).unwrap_or("x")
}

#[test]
fn the_statements_themselves_are_right() {
    let mut wrong = Vec::new();
    for sql in STATEMENTS {
        let mut session = session();
        if sql.starts_with("SET CONSTRAINTS") {
            session.run("START TRANSACTION").unwrap();
        }
        wrong.extend(session.run(sql).err().map(|error| format!("{sql}\n{error}")));
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
}

#[test]
fn words_out_of_place_are_errors_with_a_place() {
    let rounds = std::env::var("GARDEN_GATE_ROUNDS").ok().and_then(|rounds| rounds.parse().ok()).unwrap_or(60);
    let (mut refused, mut run) = (0, 0);
    for (number, sql) in STATEMENTS.iter().enumerate() {
        let words: Vec<&str> = sql.split(' ').collect();
        let mut session = session();
        for seed in 0..rounds {
            let mut draw = Draw::new(u64::try_from(number).unwrap() * 1_000_000 + seed);
            let text = mutant(&mut draw, &words);
            let Err(error) = session.run(&text) else {
                run += 1;
                // What it did is not for the next one.
                session = self::session();
                continue;
            };
            refused += 1;
            let state = error.sqlstate();
            assert_ne!(state, SqlState::GENERAL, "{text}\n{error}");
            assert!(!error.message().is_empty() && !error.message().contains("internal"), "{text}\n{error}");
            if let Some(span) = error.span() {
                assert!(text.get(span.range()).is_some(), "{text}\n{error}\n{span:?}");
            } else {
                // Only what shows itself as a statement is carried out, or what the end of one is about, has no place.
                assert!(!state.as_str().starts_with("42S"), "{text}\n{error}");
            }
        }
    }
    assert!(refused > 1500 && run > 100, "{refused} refused, {run} run");
}
