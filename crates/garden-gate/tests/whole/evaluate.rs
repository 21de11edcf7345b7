//! The slow evaluator: a row at a time, no rewriting, straight from the standard's wording.

use super::tree::{
    Aggregate, Body, Bound, Cell, Expr, Frame, From, Group, Order, Query, Select, Window, WindowFunction,
};
use std::cmp::Ordering;
use std::collections::HashMap;

pub(crate) type Rows = Vec<Vec<Cell>>;

/// Why a query has no result: a scalar query with two rows, or a name that is not there (only while shrinking).
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Fault {
    SeveralRows,
    /// A constant that was to be evaluated for no row.
    Fails,
    Name,
    /// The reference would take too long.
    TooMuch,
}

thread_local! {
    /// Expressions that may still be evaluated for the query at hand.
    static BUDGET: std::cell::Cell<u64> = const { std::cell::Cell::new(0) };
}

fn spend() -> Outcome<()> {
    BUDGET.with(|budget| {
        let left = budget.get();
        budget.set(left.saturating_sub(1));
        if left == 0 { Err(Fault::TooMuch) } else { Ok(()) }
    })
}

type Outcome<T> = Result<T, Fault>;

/// Tables by name, with their column names.
pub(crate) type Tables = HashMap<String, (Vec<String>, Rows)>;

/// A row of FROM: for each table its name, column names and values.
type Joined = Vec<(String, Vec<String>, Vec<Cell>)>;

/// What names mean at one point: the row of the query and those of the queries around it.
#[derive(Clone, Copy)]
struct Scope<'s> {
    rows: &'s [Joined],
    /// The rows of a group, the values of its keys, and which of them its set has.
    group: Option<(&'s [Joined], &'s [Cell], &'s [bool])>,
    /// Values of window functions, by where they stand in the tree.
    windows: Option<&'s HashMap<usize, Cell>>,
}

pub(crate) fn query(query: &Query, tables: &Tables) -> Outcome<Rows> {
    BUDGET.with(|budget| budget.set(20_000));
    full(query, tables, &[])
}

fn full(query: &Query, tables: &Tables, outer: &[Joined]) -> Outcome<Rows> {
    let mut known = tables.clone();
    for (name, with) in &query.with {
        let names: Vec<String> = (0..with.width()).map(|at| format!("c{at}")).collect();
        let mut rows = full(with, &known, outer)?;
        if let Some((branch, all)) = &with.recursive {
            rows = recursion(rows, branch, *all, (name, &names), &known)?;
        }
        known.insert(name.clone(), (names, rows));
    }
    let mut rows = body_rows(&query.body, &known, outer)?;
    if let Some(order) = &query.order {
        rows.sort_by(|a, b| {
            let by = |(at, down): (usize, &bool)| {
                let order = nulls_last(&a[at], &b[at]);
                if *down && a[at] != Cell::Null && b[at] != Cell::Null { order.reverse() } else { order }
            };
            order.iter().enumerate().map(by).find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
        });
    }
    if let Some((offset, fetch)) = query.window {
        rows = rows.into_iter().skip(offset).take(fetch).collect();
    }
    Ok(rows)
}

fn nulls_last(a: &Cell, b: &Cell) -> Ordering {
    (*a == Cell::Null).cmp(&(*b == Cell::Null)).then_with(|| a.cmp(b))
}

/// Each round sees only the rows that the round before found.
fn recursion(
    anchor: Rows,
    branch: &Select,
    all: bool,
    (name, names): (&str, &[String]),
    tables: &Tables,
) -> Outcome<Rows> {
    let mut found: Rows = Vec::new();
    let mut new = anchor;
    if !all {
        new = unique(new);
    }
    while !new.is_empty() && found.len() < 5_000 {
        found.extend(new.clone());
        let mut known = tables.clone();
        known.insert(name.to_owned(), (names.to_vec(), new));
        new = select(branch, &known, &[])?;
        if !all {
            new = unique(new).into_iter().filter(|row| !found.contains(row)).collect();
        }
    }
    Ok(found)
}

fn unique(rows: Rows) -> Rows {
    let mut kept: Rows = Vec::new();
    for row in rows {
        if !kept.contains(&row) {
            kept.push(row);
        }
    }
    kept
}

fn body_rows(body: &Body, tables: &Tables, outer: &[Joined]) -> Outcome<Rows> {
    match body {
        Body::Select(one) => select(one, tables, outer),
        Body::Values(rows) => {
            let scope = Scope { rows: outer, group: None, windows: None };
            rows.iter().map(|row| row.iter().map(|expr| value(expr, scope, tables)).collect()).collect()
        }
        Body::Set(op, all, left, right) => {
            let (mut a, mut b) = (body_rows(left, tables, outer)?, body_rows(right, tables, outer)?);
            if *op == "UNION" {
                a.extend(b);
                return Ok(if *all { a } else { unique(a) });
            }
            let mut kept = Vec::new();
            for row in if *all { a } else { unique(a) } {
                let partner = b.iter().position(|other| *other == row);
                if let (Some(at), true) = (partner, *all) {
                    b.remove(at);
                }
                if partner.is_some() == (*op == "INTERSECT") {
                    kept.push(row);
                }
            }
            Ok(kept)
        }
    }
}

/// The rows of a table of FROM; `left` is what LATERAL sees.
fn tables_of(from: &From, tables: &Tables, outer: &[Joined], left: &Joined) -> Outcome<Vec<Joined>> {
    let around =
        |joined: &Joined| -> Vec<Joined> { outer.iter().cloned().chain(std::iter::once(joined.clone())).collect() };
    let named = |alias: &str, names: Vec<String>, rows: Rows| -> Vec<Joined> {
        rows.into_iter().map(|row| vec![(alias.to_owned(), names.clone(), row)]).collect()
    };
    match from {
        From::Table(name, alias) => {
            let (names, rows) = tables.get(name).ok_or(Fault::Name)?;
            Ok(named(alias, names.clone(), rows.clone()))
        }
        From::Derived(query, alias, lateral) => {
            let names = (0..query.width()).map(|at| format!("c{at}")).collect();
            let rows = if *lateral { full(query, tables, &around(left))? } else { full(query, tables, outer)? };
            Ok(named(alias, names, rows))
        }
        From::Series(low, high, alias) => {
            let around = around(left);
            let scope = Scope { rows: &around, group: None, windows: None };
            let rows = match (value(low, scope, tables)?, value(high, scope, tables)?) {
                (Cell::Number(low), Cell::Number(high)) => (low..=high).map(|n| vec![Cell::Number(n)]).collect(),
                _ => Vec::new(),
            };
            Ok(named(alias, vec!["c0".into()], rows))
        }
        From::Join(kind, a, b, on) => join((kind, a, b, on.as_ref()), tables, outer, left),
    }
}

fn join(
    (kind, a, b, on): (&str, &From, &From, Option<&Expr>),
    tables: &Tables,
    outer: &[Joined],
    left: &Joined,
) -> Outcome<Vec<Joined>> {
    let rows = tables_of(a, tables, outer, left)?;
    let mut joined = Vec::new();
    // The right side depends on the left one only when it is LATERAL; then there is no FULL or RIGHT.
    let plain = tables_of(b, tables, outer, left);
    if rows.is_empty() && matches!(plain, Err(Fault::Fails)) {
        return Err(Fault::Fails);
    }
    let mut used = vec![false; plain.as_ref().map_or(0, Vec::len)];
    for row in &rows {
        let seen: Joined = left.iter().chain(row).cloned().collect();
        let others = tables_of(b, tables, outer, &seen)?;
        let mut found = false;
        for (at, other) in others.iter().enumerate() {
            let pair: Joined = row.iter().chain(other).cloned().collect();
            let around: Vec<Joined> =
                outer.iter().cloned().chain(std::iter::once(left.iter().chain(&pair).cloned().collect())).collect();
            let scope = Scope { rows: &around, group: None, windows: None };
            let holds = match on {
                Some(on) => value(on, scope, tables)? == Cell::Truth(true),
                None => true,
            };
            if holds {
                found = true;
                if let Some(used) = used.get_mut(at) {
                    *used = true;
                }
                joined.push(pair);
            }
            spend()?;
        }
        if !found && matches!(kind, "LEFT" | "FULL") {
            joined.push(row.iter().cloned().chain(empty(b, tables)?).collect());
        }
    }
    if matches!(kind, "RIGHT" | "FULL") {
        for (other, used) in plain?.into_iter().zip(used) {
            if !used {
                joined.push(empty(a, tables)?.into_iter().chain(other).collect());
            }
        }
    }
    Ok(joined)
}

/// A row of NULLs.
fn empty(from: &From, tables: &Tables) -> Outcome<Joined> {
    let nulls = |alias: &str, names: Vec<String>| {
        let cells = vec![Cell::Null; names.len()];
        vec![(alias.to_owned(), names, cells)]
    };
    Ok(match from {
        From::Table(name, alias) => nulls(alias, tables.get(name).ok_or(Fault::Name)?.0.clone()),
        From::Derived(query, alias, _) => nulls(alias, (0..query.width()).map(|at| format!("c{at}")).collect()),
        From::Series(_, _, alias) => nulls(alias, vec!["c0".into()]),
        From::Join(_, a, b, _) => empty(a, tables)?.into_iter().chain(empty(b, tables)?).collect(),
    })
}

fn select(select: &Select, tables: &Tables, outer: &[Joined]) -> Outcome<Rows> {
    let mut rows: Vec<Joined> = vec![Vec::new()];
    for table in &select.from {
        // What FROM lists is computed whether or not what stands before it has rows, and may fail for that (clause 7.5).
        if rows.is_empty() && matches!(tables_of(table, tables, outer, &Vec::new()), Err(Fault::Fails)) {
            return Err(Fault::Fails);
        }
        let mut next = Vec::new();
        for row in &rows {
            for other in tables_of(table, tables, outer, row)? {
                spend()?;
                next.push(row.iter().cloned().chain(other).collect());
            }
        }
        rows = next;
    }
    let mut kept = Vec::new();
    for row in rows {
        let around: Vec<Joined> = outer.iter().cloned().chain(std::iter::once(row.clone())).collect();
        let scope = Scope { rows: &around, group: None, windows: None };
        if match &select.condition {
            Some(condition) => value(condition, scope, tables)? == Cell::Truth(true),
            None => true,
        } {
            kept.push(row);
        }
    }
    let aggregated = select.group.is_some() || select.items.iter().chain(&select.having).any(has_aggregate);
    let mut result =
        if aggregated { grouped(select, kept, tables, outer)? } else { plain(select, &kept, tables, outer)? };
    if select.distinct {
        result = unique(result);
    }
    Ok(result)
}

fn has_aggregate(expr: &Expr) -> bool {
    let mut found = false;
    super::shrink::walk(expr, &mut |expr| found |= matches!(expr, Expr::Aggregate(_)));
    found
}

fn plain(select: &Select, rows: &[Joined], tables: &Tables, outer: &[Joined]) -> Outcome<Rows> {
    let around: Vec<Vec<Joined>> =
        rows.iter().map(|row| outer.iter().cloned().chain(std::iter::once(row.clone())).collect()).collect();
    let scopes: Vec<Scope<'_>> = around.iter().map(|rows| Scope { rows, group: None, windows: None }).collect();
    project(&select.items, &scopes, tables)
}

fn grouped(select: &Select, rows: Vec<Joined>, tables: &Tables, outer: &[Joined]) -> Outcome<Rows> {
    let nothing = Group { keys: Vec::new(), sets: None };
    let group = select.group.as_ref().unwrap_or(&nothing);
    let all: Vec<usize> = (0..group.keys.len()).collect();
    let sets = group.sets.clone().unwrap_or_else(|| vec![all]);
    let mut groups: Vec<(Vec<Cell>, Vec<bool>, Vec<Joined>)> = Vec::new();
    for set in &sets {
        let has: Vec<bool> = (0..group.keys.len()).map(|at| set.contains(&at)).collect();
        let first = groups.len();
        if set.is_empty() {
            groups.push((vec![Cell::Null; group.keys.len()], has.clone(), Vec::new()));
        }
        for row in &rows {
            let around: Vec<Joined> = outer.iter().cloned().chain(std::iter::once(row.clone())).collect();
            let scope = Scope { rows: &around, group: None, windows: None };
            let mut keys = Vec::new();
            for (at, key) in group.keys.iter().enumerate() {
                keys.push(if has[at] { value(key, scope, tables)? } else { Cell::Null });
            }
            match groups[first..].iter_mut().find(|(known, ..)| *known == keys) {
                Some((_, _, members)) => members.push(row.clone()),
                None => groups.push((keys, has.clone(), vec![row.clone()])),
            }
        }
    }
    let scopes: Vec<Scope<'_>> = groups
        .iter()
        .map(|(keys, has, members)| Scope { rows: outer, group: Some((members, keys, has)), windows: None })
        .collect();
    let mut kept = Vec::new();
    for scope in scopes {
        if match &select.having {
            Some(having) => value(having, scope, tables)? == Cell::Truth(true),
            None => true,
        } {
            kept.push(scope);
        }
    }
    project(&select.items, &kept, tables)
}

/// The items of all rows; window functions see all of them.
fn project(items: &[Expr], scopes: &[Scope<'_>], tables: &Tables) -> Outcome<Rows> {
    let mut windows: Vec<HashMap<usize, Cell>> = vec![HashMap::new(); scopes.len()];
    let mut calls: Vec<&Window> = Vec::new();
    for item in items {
        super::shrink::walk(item, &mut |expr| {
            if let Expr::Window(window) = expr {
                calls.push(window);
            }
        });
    }
    for call in calls {
        for (row, cell) in window(call, scopes, tables)?.into_iter().enumerate() {
            windows[row].insert(std::ptr::from_ref(call) as usize, cell);
        }
    }
    let row = |(scope, windows): (&Scope<'_>, &HashMap<usize, Cell>)| {
        let scope = Scope { windows: Some(windows), ..*scope };
        items.iter().map(|item| value(item, scope, tables)).collect()
    };
    scopes.iter().zip(&windows).map(row).collect()
}

fn truth(cell: &Cell) -> Option<bool> {
    match cell {
        Cell::Truth(truth) => Some(*truth),
        _ => None,
    }
}

fn cell(truth: Option<bool>) -> Cell {
    truth.map_or(Cell::Null, Cell::Truth)
}

fn compare(op: &str, a: &Cell, b: &Cell) -> Option<bool> {
    if *a == Cell::Null || *b == Cell::Null {
        return None;
    }
    let order = a.cmp(b);
    Some(match op {
        "=" => order.is_eq(),
        "<>" => order.is_ne(),
        "<" => order.is_lt(),
        "<=" => order.is_le(),
        ">" => order.is_gt(),
        _ => order.is_ge(),
    })
}

fn and(truths: impl Iterator<Item = Option<bool>>) -> Option<bool> {
    let mut result = Some(true);
    for truth in truths {
        match truth {
            Some(false) => return Some(false),
            None => result = None,
            Some(true) => {}
        }
    }
    result
}

fn not(truth: Option<bool>) -> Option<bool> {
    truth.map(|truth| !truth)
}

fn or(truths: impl Iterator<Item = Option<bool>>) -> Option<bool> {
    not(and(truths.map(not)))
}

/// The rows around a query inside an expression; of a group, none of its own columns can be seen.
fn inner(query: &Query, scope: Scope<'_>, tables: &Tables) -> Outcome<Rows> {
    full(query, tables, scope.rows)
}

fn value(expr: &Expr, scope: Scope<'_>, tables: &Tables) -> Outcome<Cell> {
    spend()?;
    let v = |expr: &Expr| value(expr, scope, tables);
    let t = |expr: &Expr| value(expr, scope, tables).map(|cell| truth(&cell));
    Ok(match expr {
        Expr::Column(table, column) => {
            let find = |row: &Joined| {
                let (_, names, cells) = row.iter().find(|(name, ..)| name == table)?;
                names.iter().position(|name| name == column).map(|at| cells[at].clone())
            };
            scope.rows.iter().rev().find_map(find).ok_or(Fault::Name)?
        }
        Expr::Key(at) => scope.group.ok_or(Fault::Name)?.1.get(*at).cloned().ok_or(Fault::Name)?,
        Expr::Grouping(at) => Cell::Number(i64::from(!*scope.group.ok_or(Fault::Name)?.2.get(*at).ok_or(Fault::Name)?)),
        Expr::Literal(cell, _) => cell.clone(),
        Expr::Arithmetic(op, a, b) => match (v(a)?, v(b)?) {
            (Cell::Number(a), Cell::Number(b)) => Cell::Number(match op {
                '+' => a + b,
                '-' => a - b,
                _ => a * b,
            }),
            _ => Cell::Null,
        },
        Expr::Concat(a, b) => match (v(a)?, v(b)?) {
            (Cell::Text(a), Cell::Text(b)) => Cell::Text(a + &b),
            _ => Cell::Null,
        },
        Expr::Compare(op, a, b) => cell(compare(op, &v(a)?, &v(b)?)),
        Expr::And(terms) => cell(and(terms.iter().map(t).collect::<Outcome<Vec<_>>>()?.into_iter())),
        Expr::Or(terms) => cell(or(terms.iter().map(t).collect::<Outcome<Vec<_>>>()?.into_iter())),
        Expr::Not(a) => cell(not(t(a)?)),
        Expr::Guarded(a, by_or) => match t(a)? {
            Some(settled) if settled == *by_or => Cell::Truth(settled),
            _ => return Err(Fault::Fails),
        },
        Expr::IsNull(a, negated) => Cell::Truth((v(a)? == Cell::Null) != *negated),
        Expr::Is(a, wanted, negated) => Cell::Truth((t(a)? == *wanted) != *negated),
        Expr::Distinct(a, b, negated) => Cell::Truth((v(a)? != v(b)?) != *negated),
        Expr::Between(a, b, c) => {
            let (a, b, c) = (v(a)?, v(b)?, v(c)?);
            cell(and([compare(">=", &a, &b), compare("<=", &a, &c)].into_iter()))
        }
        Expr::In(a, items, negated) => {
            let a = v(a)?;
            let items = items.iter().map(v).collect::<Outcome<Vec<_>>>()?;
            let found = or(items.iter().map(|item| compare("=", &a, item)));
            cell(if *negated { not(found) } else { found })
        }
        Expr::Case(branches, otherwise) => {
            for (when, then) in branches {
                if t(when)? == Some(true) {
                    return v(then);
                }
            }
            otherwise.as_ref().map_or(Ok(Cell::Null), |otherwise| v(otherwise))?
        }
        Expr::Coalesce(terms) => {
            for term in terms {
                let cell = v(term)?;
                if cell != Cell::Null {
                    return Ok(cell);
                }
            }
            Cell::Null
        }
        Expr::NullIf(a, b) => {
            let (a, b) = (v(a)?, v(b)?);
            if compare("=", &a, &b) == Some(true) { Cell::Null } else { a }
        }
        Expr::Function(name, args) => function(name, args.iter().map(v).collect::<Outcome<Vec<_>>>()?),
        Expr::Scalar(query) => {
            let rows = inner(query, scope, tables)?;
            match rows.as_slice() {
                [] => Cell::Null,
                [row] => row[0].clone(),
                _ => return Err(Fault::SeveralRows),
            }
        }
        Expr::Exists(query) => Cell::Truth(!inner(query, scope, tables)?.is_empty()),
        Expr::InQuery(operands, query, negated) => {
            let operands = operands.iter().map(v).collect::<Outcome<Vec<_>>>()?;
            let rows = inner(query, scope, tables)?;
            let same = |row: &Vec<Cell>| and(operands.iter().zip(row).map(|(a, b)| compare("=", a, b)));
            let found = or(rows.iter().map(same));
            cell(if *negated { not(found) } else { found })
        }
        Expr::Quantified(op, all, a, query) => {
            let a = v(a)?;
            let rows = inner(query, scope, tables)?;
            let truths = rows.iter().map(|row| compare(op, &a, &row[0]));
            cell(if *all { and(truths) } else { or(truths) })
        }
        Expr::Aggregate(call) => {
            let (members, ..) = scope.group.ok_or(Fault::Name)?;
            let around: Vec<Vec<Joined>> = members
                .iter()
                .map(|row| scope.rows.iter().cloned().chain(std::iter::once(row.clone())).collect())
                .collect();
            let scopes: Vec<Scope<'_>> = around.iter().map(|rows| Scope { rows, group: None, windows: None }).collect();
            aggregated(call, &scopes, tables)?
        }
        Expr::Window(call) => {
            let known = scope.windows.ok_or(Fault::Name)?;
            known.get(&(std::ptr::from_ref(call.as_ref()) as usize)).cloned().ok_or(Fault::Name)?
        }
    })
}

fn function(name: &str, args: Vec<Cell>) -> Cell {
    if args.contains(&Cell::Null) {
        return Cell::Null;
    }
    match (name, args.as_slice()) {
        ("ABS", [Cell::Number(n)]) => Cell::Number(n.abs()),
        ("UPPER", [Cell::Text(text)]) => Cell::Text(text.to_uppercase()),
        ("CHAR_LENGTH", [Cell::Text(text)]) => Cell::Number(i64::try_from(text.chars().count()).unwrap()),
        ("GREATEST", all) => all.iter().max().unwrap().clone(),
        (_, all) => all.iter().min().unwrap().clone(),
    }
}

fn aggregated(call: &Aggregate, rows: &[Scope<'_>], tables: &Tables) -> Outcome<Cell> {
    let mut values = Vec::new();
    let mut count = 0;
    for scope in rows {
        if let Some(filter) = &call.filter
            && value(filter, *scope, tables)? != Cell::Truth(true)
        {
            continue;
        }
        count += 1;
        if let Some(argument) = &call.argument {
            let cell = value(argument, *scope, tables)?;
            if cell != Cell::Null && !(call.distinct && values.contains(&cell)) {
                values.push(cell);
            }
        }
    }
    let Some(_) = &call.argument else { return Ok(Cell::Number(count)) };
    if call.function == "COUNT" {
        return Ok(Cell::Number(i64::try_from(values.len()).unwrap()));
    }
    if values.is_empty() {
        return Ok(Cell::Null);
    }
    Ok(match call.function {
        "SUM" => Cell::Number(values.iter().map(|cell| if let Cell::Number(n) = cell { *n } else { 0 }).sum()),
        "MIN" | "EVERY" => values.into_iter().min().unwrap(),
        "MAX" | "ANY" => values.into_iter().max().unwrap(),
        _ => {
            values.sort();
            let texts: Vec<String> =
                values.into_iter().map(|cell| if let Cell::Text(text) = cell { text } else { String::new() }).collect();
            Cell::Text(texts.join(","))
        }
    })
}

/// The order of two rows of a window.
fn ordered(order: &[Order], a: &[Cell], b: &[Cell]) -> Ordering {
    for (at, key) in order.iter().enumerate() {
        let by = match (a[at] == Cell::Null, b[at] == Cell::Null) {
            (true, true) => Ordering::Equal,
            (true, false) if key.nulls_first => Ordering::Less,
            (true, false) => Ordering::Greater,
            (false, true) if key.nulls_first => Ordering::Greater,
            (false, true) => Ordering::Less,
            _ if key.descending => b[at].cmp(&a[at]),
            _ => a[at].cmp(&b[at]),
        };
        if by.is_ne() {
            return by;
        }
    }
    Ordering::Equal
}

fn window(call: &Window, scopes: &[Scope<'_>], tables: &Tables) -> Outcome<Vec<Cell>> {
    let all = |exprs: &mut dyn Iterator<Item = &Expr>, scope: Scope<'_>| -> Outcome<Vec<Cell>> {
        exprs.map(|expr| value(expr, scope, tables)).collect()
    };
    let mut keys = Vec::new();
    for scope in scopes {
        let partition = all(&mut call.partition.iter(), *scope)?;
        keys.push((partition, all(&mut call.order.iter().map(|order| &order.expr), *scope)?));
    }
    let mut results = vec![Cell::Null; scopes.len()];
    for row in 0..scopes.len() {
        let mut rows: Vec<usize> = (0..scopes.len()).filter(|other| keys[*other].0 == keys[row].0).collect();
        rows.sort_by(|a, b| ordered(&call.order, &keys[*a].1, &keys[*b].1));
        let at = rows.iter().position(|other| *other == row).unwrap();
        let peers: Vec<usize> =
            (0..rows.len()).filter(|other| ordered(&call.order, &keys[rows[*other]].1, &keys[row].1).is_eq()).collect();
        let number = |n: usize| Cell::Number(i64::try_from(n).unwrap());
        results[row] = match &call.function {
            WindowFunction::Rank("ROW_NUMBER") => number(at + 1),
            WindowFunction::Rank("RANK") => number(peers[0] + 1),
            WindowFunction::Rank(_) => {
                let starts = |place: &usize| {
                    *place == 0 || ordered(&call.order, &keys[rows[*place]].1, &keys[rows[place - 1]].1).is_ne()
                };
                number((0..=at).filter(starts).count())
            }
            WindowFunction::Ntile(parts) => {
                let parts = usize::try_from(*parts).unwrap();
                // Every part has the same size, the first ones one row more.
                let sizes = (0..parts).map(|part| rows.len() / parts + usize::from(part < rows.len() % parts));
                let mut end = 0;
                let part = sizes
                    .map(|size| {
                        end += size;
                        end
                    })
                    .position(|end| at < end)
                    .unwrap();
                number(part + 1)
            }
            WindowFunction::Shift(name, expr, by, ignore) => {
                let step = if *name == "LEAD" { *by } else { -by };
                let mut left = step.abs();
                let mut place = i64::try_from(at).unwrap();
                let mut found = if left == 0 { Some(row) } else { None };
                while left > 0 {
                    place += step.signum();
                    let Some(other) = usize::try_from(place).ok().and_then(|place| rows.get(place)) else { break };
                    if !ignore || value(expr, scopes[*other], tables)? != Cell::Null {
                        left -= 1;
                        found = (left == 0).then_some(*other);
                    }
                }
                found.map_or(Ok(Cell::Null), |other| value(expr, scopes[other], tables))?
            }
            WindowFunction::Edge(name, expr, ignore) => {
                let mut framed = framed(call, &rows, at, &peers, &keys);
                if *name == "LAST_VALUE" {
                    framed.reverse();
                }
                let mut result = Cell::Null;
                for other in framed {
                    result = value(expr, scopes[other], tables)?;
                    if !ignore || result != Cell::Null {
                        break;
                    }
                }
                result
            }
            WindowFunction::Nth(expr, number, last) => {
                let mut framed = framed(call, &rows, at, &peers, &keys);
                if *last {
                    framed.reverse();
                }
                let place = usize::try_from(number - 1).unwrap();
                framed.get(place).map_or(Ok(Cell::Null), |other| value(expr, scopes[*other], tables))?
            }
            WindowFunction::Below(expr, marker, offset) => {
                let framed = framed(call, &rows, at, &peers, &keys);
                let place = |other: usize| rows.iter().position(|row| *row == other).unwrap();
                let mut below = 0;
                for other in &framed {
                    let marked = match *marker {
                        "BEGIN_PARTITION" => 0,
                        "BEGIN_FRAME" => place(framed[0]),
                        "CURRENT_ROW" => at,
                        "FRAME_ROW" => place(*other),
                        "END_FRAME" => place(framed[framed.len() - 1]),
                        _ => rows.len() - 1,
                    };
                    let there = usize::try_from(i64::try_from(marked).unwrap() + offset).ok();
                    let Some(there) = there.and_then(|there| rows.get(there)) else { continue };
                    let (own, other) = (value(expr, scopes[*other], tables)?, value(expr, scopes[*there], tables)?);
                    below += usize::from(compare("<", &own, &other) == Some(true));
                }
                number(below)
            }
            WindowFunction::Aggregate(aggregate) => {
                let rows: Vec<Scope<'_>> =
                    framed(call, &rows, at, &peers, &keys).into_iter().map(|other| scopes[other]).collect();
                aggregated(aggregate, &rows, tables)?
            }
        };
    }
    Ok(results)
}

/// The rows of the frame of the row at place `at` of its partition, in order.
fn framed(call: &Window, rows: &[usize], at: usize, peers: &[usize], keys: &[(Vec<Cell>, Vec<Cell>)]) -> Vec<usize> {
    let usual = Frame { unit: "RANGE", start: Bound::First, end: Bound::Current, exclude: "" };
    let frame = call.frame.as_ref().unwrap_or(&usual);
    let group = |place: usize| {
        let starts = |other: &usize| {
            *other == 0 || ordered(&call.order, &keys[rows[*other]].1, &keys[rows[other - 1]].1).is_ne()
        };
        i64::try_from((0..=place).filter(starts).count()).unwrap()
    };
    let key = |place: usize| keys[rows[place]].1.first().cloned().unwrap_or(Cell::Null);
    // Whether the row at `place` lies at or after (`start`), or at or before the bound.
    let inside = |place: usize, bound: Bound, start: bool| -> bool {
        let far = match bound {
            Bound::First => return start,
            Bound::Last => return !start,
            Bound::Before(far) => -far,
            Bound::After(far) => far,
            Bound::Current => 0,
        };
        let (here, target) = match frame.unit {
            "ROWS" => (i64::try_from(place).unwrap(), i64::try_from(at).unwrap() + far),
            "GROUPS" => (group(place), group(at) + far),
            _ if bound == Bound::Current => (group(place), group(at)),
            _ => match (key(place), key(at)) {
                (Cell::Number(here), Cell::Number(own)) => {
                    let sign = if call.order[0].descending { -1 } else { 1 };
                    (sign * here, sign * own + far)
                }
                // A NULL is a peer of NULLs only, and appears on one side of all others.
                (Cell::Null, Cell::Null) => (0, 0),
                (here, _) => {
                    let first = (here == Cell::Null) == call.order[0].nulls_first;
                    (if first { -1 } else { 1 }, 0)
                }
            },
        };
        if start { here >= target } else { here <= target }
    };
    (0..rows.len())
        .filter(|place| inside(*place, frame.start, true) && inside(*place, frame.end, false))
        .filter(|place| match frame.exclude {
            "CURRENT ROW" => *place != at,
            "GROUP" => !peers.contains(place),
            "TIES" => *place == at || !peers.contains(place),
            _ => true,
        })
        .map(|place| rows[place])
        .collect()
}
