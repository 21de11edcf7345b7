//! The runs: a short one with every `cargo test`, a long one on demand (see `CONTRIBUTING.md`).

use super::evaluate::{self, Fault, Tables};
use super::generate::{COLUMNS, Generator, TABLES};
use super::shrink::shrink;
use super::tree::{Cell, Query};
use super::{other, stored};
use crate::random_queries::{Draw, trials};
use garden_gate::arrow::compute::concat_batches;
use garden_gate::{Parameters, Plan, Session, Value, plan::RewriteRule};

/// Queries of the short run.
const QUERIES: u64 = 192;

/// The plan as it comes, in memory, all rows at once.
const USUAL: Way = Way {
    batch: 8192,
    workers: 1,
    without: "",
    costs: "",
    guided: false,
    files: false,
    parameters: false,
    rows: Wanted::All,
    memory: "0",
};

/// Ways to run a query that must not change its rows.
const WAYS: [Way; 19] = [
    USUAL,
    Way { batch: 1, ..USUAL },
    Way { batch: 3, workers: 2, ..USUAL },
    Way { batch: 7, workers: 2, without: "decorrelate subquery, inline CTE", ..USUAL },
    Way {
        without: "predicate pushdown, group from finer groups, union all to IN, mark join to semi join, fold constants, factor OR, simplify predicates, eliminate distinct",
        ..USUAL
    },
    Way {
        batch: 5,
        without: "decorrelate subquery, aggregate join to window, semi-join reduction, semi-join pushdown, outer to inner join, mark join to semi join, infer predicates, eliminate join, limit pushdown",
        ..USUAL
    },
    // Merge joins, nested loops, and lookups in an index wherever they are possible; and joins as a guide demands.
    Way { batch: 4, workers: 2, costs: "hash loop", ..USUAL },
    Way { costs: "hash sort", ..USUAL },
    Way { batch: 2, costs: "hash sort loop", ..USUAL },
    Way { workers: 2, guided: true, ..USUAL },
    // What costs how much is drawn, and what a guide demands.
    Way { batch: 6, workers: 2, costs: DRAWN, ..USUAL },
    Way { workers: 2, costs: DRAWN, guided: true, ..USUAL },
    // Whatever can spills to disk.
    Way { batch: 3, files: true, ..USUAL },
    Way { batch: 2, workers: 2, costs: "loop", files: true, ..USUAL },
    // Each rule omitted alone, one query after the other.
    Way { without: ONE_RULE, ..USUAL },
    // Little memory, for which the planner looks for another way.
    Way { batch: 100, memory: "4 MB", ..USUAL },
    Way { workers: 2, memory: "64 MB", ..USUAL },
    // Any of the rows, as many as there may be.
    Way { batch: 2, workers: 2, rows: Wanted::Few, ..USUAL },
    // Numbers and texts as parameters.
    Way { batch: 9, parameters: true, ..USUAL },
];

const ONE_RULE: &str = "one rule";

/// Which rows of a query are fetched.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Wanted {
    All,
    /// The first few, in no order.
    Few,
}

#[derive(Clone, Copy, Debug, PartialEq)]
struct Way {
    batch: i64,
    workers: i64,
    without: &'static str,
    /// What is made a thousand times as expensive, or [`DRAWN`].
    costs: &'static str,
    /// Whether every pair of tables is joined by a method that is demanded.
    guided: bool,
    /// Whether operators hold next to nothing in memory.
    files: bool,
    /// Whether literals come in as parameters.
    parameters: bool,
    rows: Wanted,
    /// The memory limit.
    memory: &'static str,
}

const DRAWN: &str = "drawn";
/// Kinds of work whose cost a setting multiplies.
const COSTS: [&str; 4] = ["hash", "index", "loop", "sort"];

/// A correlation name, and the table that it means.
type PlanTable = (String, Option<String>);

/// What a plan reads.
fn tables_of(plan: &Plan) -> Vec<PlanTable> {
    let leaves = plan.nodes().into_iter().filter(|node| node.children.is_empty());
    let mut names: Vec<PlanTable> =
        leaves.filter_map(|node| Some((node.alias.clone()?, node.target.clone()))).collect();
    names.sort();
    names.dedup();
    names
}

/// The query with a wish for each of its tables and each pair of them, methods in turn; drawn, when a draw is given.
fn guided(sql: &str, names: &[PlanTable], mut draw: Option<&mut Draw>) -> String {
    let mut wishes = vec!["KEEP ORDER".to_owned()];
    if let Some(draw) = &mut draw {
        wishes[0] = (*draw.pick(&["KEEP ORDER", "WORKERS 1", "WORKERS 2"])).to_owned();
        for (name, table) in names {
            let index = table.as_ref().map(|table| format!("INDEX {table}_{}_ix", draw.pick(&COLUMNS).0));
            let way = index.filter(|_| draw.coin()).unwrap_or_else(|| "SCAN".to_owned());
            wishes.extend(draw.coin().then(|| format!("READ {name} BY {way}")));
        }
    }
    let methods = ["MERGE", "NESTED LOOP", "HASH", "RANGE"];
    for (at, (first, _)) in names.iter().enumerate() {
        for ((second, _), method) in names[at + 1..].iter().zip(methods.into_iter().cycle().skip(at)) {
            let method = draw.as_mut().map_or(method, |draw| *draw.pick(&methods));
            wishes.push(format!("JOIN ({second}, {first}) BY {method}"));
        }
    }
    format!("{sql} GUIDE IF POSSIBLE ({})", wishes.join(", "))
}

fn shown(cell: &Cell) -> String {
    match cell {
        Cell::Null => "NULL".into(),
        Cell::Truth(truth) => if *truth { "TRUE" } else { "FALSE" }.into(),
        Cell::Number(number) => number.to_string(),
        Cell::Text(text) => format!("'{text}'"),
        Cell::Other(value) => other::chosen().shown(*value),
    }
}

/// What the reference gives: rows, or that the query fails.
type Expected = Result<Vec<Vec<Cell>>, Fault>;

/// What is known of the usual plan of a query.
struct UsualPlan {
    rules: Vec<String>,
    has_joins: bool,
    has_groups: bool,
    tables: Vec<PlanTable>,
}

impl UsualPlan {
    fn of(plan: &Plan) -> Self {
        let has = |what: &str| plan.nodes().iter().any(|node| node.operator.name().contains(what));
        let rules = plan.rewrites.iter().map(|note| note.rule.name().to_owned()).collect();
        Self { rules, has_joins: has("join"), has_groups: has("aggregate") || has("distinct"), tables: tables_of(plan) }
    }

    /// Whether a way gives the plan that was seen already: rules that did not fire are omitted, or joins demanded where there are none.
    fn is_plan_of(&self, way: Way, sql: &str) -> bool {
        let rules: Vec<&str> =
            if way.without == ONE_RULE { vec![one_rule(sql)] } else { way.without.split(", ").collect() };
        let by_rules = !way.without.is_empty() && !self.rules.iter().any(|fired| rules.contains(&fired.as_str()));
        by_rules || way.guided && !self.has_joins || !way.costs.is_empty() && !self.has_joins && !self.has_groups
    }
}

/// Whether FETCH may stand at the end of a query, whose rows have no order.
fn takes_fetch(query: &Query) -> bool {
    query.order.is_none() && query.window.is_none()
}

/// A number of a query, by which a way draws.
fn number_of(sql: &str) -> u64 {
    sql.bytes().fold(7, |sum: u64, byte| sum * 31 % 1_000_003 + u64::from(byte))
}

fn one_rule(sql: &str) -> &'static str {
    RewriteRule::ALL[usize::try_from(number_of(sql)).unwrap_or(0) % RewriteRule::ALL.len()].name()
}

/// [`wrong_beside`] for a query whose rows are not known yet.
fn wrong(query: &Query, tables: &Tables, session: &mut Session, way: Way) -> Option<String> {
    wrong_beside(&evaluate::query(query, tables), query, (session, &mut None), way)
}

/// What is wrong with the engine's answer, if anything; `None` also when the reference has none.
fn wrong_beside(
    expected: &Expected,
    query: &Query,
    (session, usual): (&mut Session, &mut Option<UsualPlan>),
    way: Way,
) -> Option<String> {
    if matches!(expected, Err(Fault::Name | Fault::TooMuch)) {
        return None;
    }
    session.set("batch_rows", way.batch).unwrap();
    session.set("memory_limit", way.memory).unwrap();
    session.set("workers", way.workers).unwrap();
    let (sql, parameters) =
        if way.parameters { other::with_parameters(|| query.sql()) } else { (query.sql(), Parameters::new()) };
    let number = number_of(&sql);
    let fetched = usize::try_from(number % 7).unwrap_or(0);
    let some_rows = way.rows == Wanted::Few && takes_fetch(query);
    let sql = if some_rows { format!("{sql} FETCH FIRST {fetched} ROWS ONLY") } else { sql };
    session.set("without_rules", if way.without == ONE_RULE { one_rule(&sql) } else { way.without }).unwrap();
    session.set("time_limit", 20_000).unwrap();
    session.set("spill_threshold", if way.files { 100 } else { 0 }).unwrap();
    let mut draw = (way.costs == DRAWN).then(|| Draw::new(number));
    for cost in COSTS {
        let usual = if way.costs.contains(cost) { "1000" } else { "1" };
        let factor = draw.as_mut().map_or(usual, |draw| *draw.pick(&["0.001", "0.05", "1", "30", "1000"]));
        session.set(&format!("{cost}_cost_factor"), factor).unwrap();
    }
    let sql = match (&*usual, way.guided) {
        (_, false) => sql,
        (Some(usual), true) => guided(&sql, &usual.tables, draw.as_mut()),
        (None, true) => match session.plan(&sql, ()) {
            Ok(plan) => guided(&sql, &tables_of(&plan), draw.as_mut()),
            Err(_) => sql,
        },
    };
    let asked = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
        // Planning takes most of the time: whether the plan that is shown is the one that runs is looked at in the first way, and there the
        // rows of the stream for one query of four.
        if way.costs != DRAWN && way != USUAL {
            return session.query(&sql, parameters);
        }
        let (rows, measured) = session.measure(&sql, ())?;
        let dearer = measured.considered.iter().find(|decision| !chosen_is_cheapest(decision));
        assert!(way.guided || dearer.is_none(), "{sql}\n{dearer:#?}");
        if way == USUAL {
            assert_eq!(session.plan(&sql, ())?.fingerprint, measured.fingerprint, "{sql}");
            *usual = Some(UsualPlan::of(&measured));
        }
        if way == USUAL && number.is_multiple_of(4) {
            let stream = session.stream(&sql, ())?;
            let schema = stream.schema();
            let streamed = stream.collect::<garden_gate::Result<Vec<_>>>()?;
            let (streamed, gathered) =
                (concat_batches(&schema, &streamed)?, concat_batches(&schema, &rows.batches()?)?);
            assert_eq!(streamed, gathered, "the rows of the stream: {sql}");
        }
        Ok::<_, garden_gate::Error>(rows)
    }));
    let Ok(found) = asked else { return Some("PANIC".into()) };
    let (expected, found) = match (expected, found) {
        // Which of several queries instead of values is evaluated, and when, is left open; two rows may be met or not.
        (Err(_), Ok(_)) => return None,
        (_, Err(error)) if error.sqlstate().as_str() == "21000" => return None,
        // A plan that is given up is an error that says so, and no wrong answer.
        (_, Err(error)) if error.sqlstate().as_str() == "54001" => return None,
        (Err(Fault::Fails), Err(error)) if error.sqlstate().as_str() == "22012" => return None,
        (_, Err(error)) => return Some(format!("{} {}", error.sqlstate(), error.message())),
        (Ok(expected), Ok(found)) => (expected, found),
    };
    differs(expected, &found, query.order.is_some(), some_rows.then_some(fetched))
}

/// How the rows that were found differ from those of the reference; of the few that were fetched, when that is how many were wanted.
fn differs(
    expected: &[Vec<Cell>],
    found: &garden_gate::ResultSet,
    is_ordered: bool,
    fetched: Option<usize>,
) -> Option<String> {
    let mut expected: Vec<String> =
        expected.iter().map(|row| row.iter().map(shown).collect::<Vec<_>>().join("|")).collect();
    let text = |value: &Value| if let Value::Text(text) = value { format!("'{text}'") } else { value.to_string() };
    let mut rows: Vec<String> =
        found.rows().map(|row| row.values().iter().map(text).collect::<Vec<_>>().join("|")).collect();
    if !is_ordered {
        expected.sort();
        rows.sort();
    }
    let Some(fetched) = fetched else {
        return (expected != rows).then(|| format!("expected {expected:?}\nfound    {rows:?}"));
    };
    let count = fetched.min(expected.len());
    // Both are in order: each row that was fetched stands among those that there are, as often.
    let mut left = expected.iter();
    let among = rows.iter().all(|row| left.any(|known| known == row));
    (rows.len() != count || !among).then(|| format!("{count} of {expected:?}\nfound {rows:?}"))
}

/// Whether no candidate of a decision costs less than the one taken.
fn chosen_is_cheapest(decision: &garden_gate::plan::Considered) -> bool {
    let chosen = decision.candidates.iter().find(|candidate| candidate.chosen);
    // One way to read may be dearer, and the entire plan cheaper for it: that is said.
    if decision.decision.to_string().starts_with("read ") && chosen.is_some_and(|chosen| chosen.reason.is_some()) {
        return true;
    }
    let chosen = chosen.and_then(|candidate| candidate.cost);
    let least = decision.candidates.iter().filter_map(|candidate| candidate.cost).fold(f64::INFINITY, f64::min);
    chosen.is_some_and(|chosen| chosen <= least * (1.0 + 1e-9))
}

/// Runs the queries of these seeds to the end, and tells all that went wrong, each made small.
fn run(seeds: std::ops::Range<u64>) {
    let mut failures = Vec::new();
    let mut counts = WAYS.map(|_| 0);
    for seed in seeds {
        let mut draw = Draw::new(seed.wrapping_mul(0x5851_f42d_4c95_7f2d) + 17);
        let tables = stored::tables(&mut draw);
        other::choose(usize::try_from(seed).unwrap_or(0));
        let folder = tempfile::tempdir().unwrap();
        let mut session = stored::session(&tables, stored::As::of(seed / 2), folder.path());
        if std::env::var_os("GARDEN_GATE_SEEDS").is_some() && seed.is_multiple_of(50) {
            println!("seed {seed}, {} failures", failures.len());
        }
        for _ in 0..8 {
            let query = Generator::new(&mut draw).query();
            if std::env::var_os("GARDEN_GATE_SHOW").is_some() {
                println!("{}", query.sql());
            }
            let expected = evaluate::query(&query, &tables);
            let mut usual = None;
            let sql = query.sql();
            for (way, count) in WAYS.into_iter().zip(&mut counts) {
                if usual.as_ref().is_some_and(|usual: &UsualPlan| usual.is_plan_of(way, &sql))
                    || way.rows == Wanted::Few && !takes_fetch(&query)
                {
                    continue;
                }
                *count += 1;
                let Some(first) = wrong_beside(&expected, &query, (&mut session, &mut usual), way) else { continue };
                // To make it small may take long.
                println!("seed {seed}, {way:?}\n{}\n{first}", query.sql());
                failures
                    .push(format!("seed {seed}, {way:?}\n{}", smallest(&query, &tables, (&mut session, way), &first)));
                break;
            }
        }
    }
    println!("queries run in each way: {counts:?}");
    assert!(failures.is_empty(), "{} failures\n{}", failures.len(), failures.join("\n\n"));
    assert!(counts.iter().all(|count| *count > 0), "a way that is never gone: {counts:?}");
}

/// The smallest query that goes wrong like this one.
fn smallest(query: &Query, tables: &Tables, (session, way): (&mut Session, Way), first: &str) -> String {
    // The same kind of failure: wrong rows, or the same error (a mistake of the shrunken text itself is another).
    let kind = |what: &str| if what.starts_with("42") { what.to_owned() } else { what.chars().take(5).collect() };
    let small =
        shrink(query, &mut |query| wrong(query, tables, session, way).is_some_and(|found| kind(&found) == kind(first)));
    let what = wrong(&small, tables, session, way).unwrap_or_default();
    let rows: Vec<String> = TABLES.iter().map(|name| format!("{name}: {:?}", tables[*name].1)).collect();
    format!("at first: {first}\n{}\n{what}\n{}", small.sql(), rows.join("\n"))
}

/// [`run`] with a stack that each statement finds large enough, so that none maps one of its own.
fn run_on_large_stack(seeds: std::ops::Range<u64>) {
    let thread = std::thread::Builder::new().stack_size(64 << 20);
    let outcome = thread.spawn(move || run(seeds)).unwrap().join();
    outcome.unwrap_or_else(|panic| std::panic::resume_unwind(panic));
}

#[test]
fn whole_queries_give_what_the_reference_gives() {
    run_on_large_stack(0..trials(QUERIES / 8));
}

/// `GARDEN_GATE_SEEDS=1000..2000 cargo test --release -- --ignored long_run`
#[test]
#[ignore = "runs for as long as its seeds last"]
fn long_run() {
    run_on_large_stack(seeds_wanted());
}

/// The seeds of a long run.
pub(crate) fn seeds_wanted() -> std::ops::Range<u64> {
    let range = std::env::var("GARDEN_GATE_SEEDS").unwrap_or_else(|_| "1000..2000".into());
    let (from, to) = range.split_once("..").expect("GARDEN_GATE_SEEDS=FROM..TO");
    from.parse().unwrap()..to.parse().unwrap()
}
