//! Statements that would run for minutes, or need gigabytes: each ends soon after its limit, whatever it is doing then.

use crate::tool::command;
use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

/// Milliseconds that a statement may take, and how much later it must have ended, start of the program included: a second, and two more
/// for a test build on a busy machine.
const LIMIT: u64 = 400;
const LATE: Duration = Duration::from_millis(LIMIT + 3000);

/// The memory limit in megabytes, and what the process may take at most.
const MEMORY: u64 = 64;
const MOST_MEMORY: u64 = MEMORY + MEMORY / 4;

const LONG: [&str; 41] = [
    "SELECT COUNT(*) FROM SERIES(1, 1000000000000)",
    "SELECT MAX(a.value + b.value) FROM SERIES(1, 1000000) a CROSS JOIN SERIES(1, 1000000) b",
    "SELECT COUNT(*) FROM SERIES(1, 300000) a JOIN SERIES(1, 300000) b ON a.value * 2 < b.value - a.value",
    "SELECT COUNT(*) FROM SERIES(1, 300000) a WHERE NOT EXISTS (SELECT 1 FROM SERIES(1, 300000) b WHERE a.value + b.value < 0)",
    "SELECT value FROM SERIES(1, 60000000) ORDER BY MOD(CAST(value AS BIGINT) * 7919, 1000003), value OFFSET 59999999 ROWS",
    "SELECT value FROM SERIES(1, 60000000) ORDER BY CAST(value AS VARCHAR(20)) DESC OFFSET 59999999 ROWS",
    "SELECT COUNT(*) FROM (SELECT value, COUNT(*) AS n FROM SERIES(1, 80000000) GROUP BY value) q WHERE n > 1",
    "SELECT COUNT(*) FROM (SELECT DISTINCT MOD(CAST(value AS BIGINT) * 7919, 70000001) AS v FROM SERIES(1, 80000000)) q",
    "SELECT COUNT(DISTINCT value) FROM SERIES(1, 80000000)",
    "SELECT MAX(n) FROM (SELECT COUNT(DISTINCT MOD(value, 977)) OVER (ORDER BY value ROWS BETWEEN 40000 PRECEDING AND CURRENT ROW) AS n FROM SERIES(1, 400000)) q",
    "SELECT MAX(n) FROM (SELECT SUM(value) OVER (ORDER BY MOD(CAST(value AS BIGINT) * 7919, 1000003)) AS n FROM SERIES(1, 30000000)) q",
    "SELECT COUNT(*) FROM (SELECT value FROM SERIES(1, 50000000) INTERSECT SELECT value * 2 FROM SERIES(1, 50000000)) q",
    "SELECT COUNT(*) FROM (SELECT value FROM SERIES(1, 50000000) EXCEPT ALL SELECT value * 2 FROM SERIES(1, 50000000)) q",
    "SELECT CHARACTER_LENGTH(LISTAGG(CAST(value AS VARCHAR(20)), ',' ON OVERFLOW TRUNCATE '…' WITH COUNT)) FROM SERIES(1, 60000000)",
    "SELECT CARDINALITY(ARRAY_AGG(value ORDER BY MOD(CAST(value AS BIGINT) * 7919, 1000003))) FROM SERIES(1, 60000000)",
    "SELECT PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY MOD(CAST(value AS BIGINT) * 7919, 1000003)) FROM SERIES(1, 60000000)",
    "SELECT SUM(CHARACTER_LENGTH(LPAD(CAST(value AS VARCHAR(9)), 20000) || LPAD('y', 20000))) FROM SERIES(1, 10000000)",
    "SELECT SUM(CHARACTER_LENGTH(TRANSLATE_REGEX('a' IN LPAD(CAST(value AS VARCHAR(9)), 20000, 'a') WITH 'bb'))) FROM SERIES(1, 10000000)",
    "SELECT COUNT(*) FROM SERIES(1, 100000000) WHERE CAST(value AS VARCHAR(20)) LIKE_REGEX '(1|2)+3(4|5)*$'",
    "WITH RECURSIVE r (n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM r WHERE n < 100000000) SELECT MAX(n) FROM r",
    "WITH RECURSIVE r (n) AS (SELECT 1 UNION SELECT MOD(n * 7 + v, 100000007) FROM r CROSS JOIN (VALUES (1), (2), (3)) x (v)) SELECT COUNT(*) FROM r",
    "CREATE TABLE t AS (SELECT value AS a, value * 2 AS b FROM SERIES(1, 200000000)) WITH DATA",
    "INSERT INTO FILE 'never.csv' SELECT value FROM SERIES(1, 200000000)",
    "SELECT * FROM SERIES(1, 100000000) a FULL JOIN SERIES(2, 100000000, 2) b ON a.value = b.value",
    "SELECT COUNT(*) FROM (SELECT MOD(value, 10) AS a, MOD(value, 11) AS b, MOD(value, 12) AS c, value AS d FROM SERIES(1, 50000000)) q GROUP BY CUBE (a, b, c, d)",
    "SELECT COUNT(*) FROM (SELECT LPAD(CAST(value AS VARCHAR(9)), 5000) AS t, COUNT(*) FROM SERIES(1, 2000000) GROUP BY LPAD(CAST(value AS VARCHAR(9)), 5000)) q",
    "SELECT COUNT(*) FROM (SELECT value, LPAD('x', 5000) || CAST(value AS VARCHAR(9)) AS t FROM SERIES(1, 10000000) ORDER BY t DESC OFFSET 1 ROW) q",
    "SELECT value FROM SERIES(1, 300000000) ORDER BY MOD(value, 2) FETCH FIRST 10 ROWS WITH TIES",
    "SELECT COUNT(*) FROM SERIES(1, 200000000) a WHERE value NOT IN (SELECT NULLIF(value, 5) FROM SERIES(1, 100000000) b)",
    "SELECT MAX(n) FROM (SELECT MAX(CAST(value AS VARCHAR(20))) OVER (PARTITION BY MOD(value, 1000)) AS n FROM SERIES(1, 50000000)) q",
    "SELECT MAX(n) FROM (SELECT LAG(value, 3) OVER (ORDER BY value DESC) AS n FROM SERIES(1, 100000000)) q",
    "SELECT MAX(CHARACTER_LENGTH(x)) FROM (SELECT LISTAGG(CAST(value AS VARCHAR(20)), ',' ON OVERFLOW TRUNCATE '…' WITH COUNT) AS x FROM SERIES(1, 100000000) GROUP BY MOD(value, 1000000)) q",
    "SELECT COUNT(x) FROM (SELECT ARRAY_AGG(value) AS x FROM SERIES(1, 100000000) GROUP BY MOD(value, 1000000)) q",
    "SELECT COUNT(*) FROM SERIES(1, 200000000) a JOIN SERIES(1, 200000000) b ON a.value = b.value",
    "SELECT COUNT(*) FROM (SELECT value FROM SERIES(1, 200000000) UNION SELECT value + 5 FROM SERIES(1, 200000000)) q",
    "SELECT MAX(CHARACTER_LENGTH(a || a || a || a || a || a || a || a)) FROM (SELECT LPAD(CAST(value AS VARCHAR(9)), 50000) AS a FROM SERIES(1, 10000000)) q",
    "SELECT COUNT(*) FROM SERIES(1, 50000000) a LEFT JOIN (SELECT MOD(value, 2600000) AS k, SUM(value) AS s FROM SERIES(1, 26000000) GROUP BY MOD(value, 2600000)) b ON a.value = b.k",
    "SELECT MAX(x) FROM (SELECT SUM(value) OVER (ORDER BY value ROWS BETWEEN 5 PRECEDING AND 5 FOLLOWING) AS x FROM SERIES(1, 100000000)) q",
    "SELECT COUNT(DISTINCT CAST(value AS VARCHAR(20))), COUNT(DISTINCT value), SUM(DISTINCT value) FROM SERIES(1, 50000000)",
    "SELECT value FROM SERIES(1, 1000000000)",
    "CREATE TABLE t AS (SELECT value AS a, LPAD('x', 1000) || CAST(value AS VARCHAR(9)) AS b FROM SERIES(1, 10000000)) WITH DATA",
];

/// Waits for a process, and gives the most memory it took, in megabytes; the pages of the binary do not count.
fn watched(mut process: Child) -> (std::process::Output, u64) {
    let status = format!("/proc/{}/status", process.id());
    let peak = |text: &str| {
        let line = text.lines().find_map(|line| line.strip_prefix("RssAnon:"))?;
        line.split_whitespace().next()?.parse::<u64>().ok()
    };
    let mut most = 0;
    while process.try_wait().unwrap().is_none() {
        most = std::fs::read_to_string(&status).ok().as_deref().and_then(peak).unwrap_or(0).max(most);
        std::thread::sleep(Duration::from_millis(2));
    }
    (process.wait_with_output().unwrap(), most / 1000)
}

#[test]
fn long_statements_keep_to_their_limits() {
    let folder = tempfile::tempdir().unwrap();
    let (time, memory) = (format!("time_limit={LIMIT}"), format!("memory_limit={MEMORY} MB"));
    let mut past = Vec::new();
    for statement in LONG {
        let started = Instant::now();
        let arguments = ["run", "--set", &time, "--set", &memory, "--set", "recursion_limit=0", "-e", statement];
        let mut command = command(&arguments);
        let process = command.current_dir(folder.path()).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
        let (ended, most) = watched(process);
        let (took, err) = (started.elapsed(), String::from_utf8(ended.stderr).unwrap());
        let by_limit = err.contains("HYT00") || err.contains("HY001");
        if took > LATE || !by_limit || most > MOST_MEMORY {
            past.push(format!("{took:?}, {most} MB: {statement}\n{}", err.lines().next().unwrap_or("no error")));
        }
    }
    assert!(past.is_empty(), "{}", past.join("\n"));
}
