//! FROM: tables, files, derived tables and table functions.

use super::definition::scan_indexes;
use super::query::Rows;
use super::scope::{At, Clause, Relation, Scope, ScopeColumn};
use super::{Binder, OutputColumn, problem::Problem};
use crate::catalog::{ForeignKey, LOCAL_SCHEMA, Schema, Table, TableDefinition, TableKind, Timing};
use crate::collections::HashSet;
use crate::diagnostic::{Error, Result, Span, SqlState, nearest};
use crate::logical::{ColumnId, ColumnInfo, Expand, Expr, LogicalPlan, Scan, ScanReference, StoredNulls};
use crate::syntax::ast::{Ident, SystemTimeClause, TableAlias, TableCall, TableExpr};
use crate::types::{SqlType, Value};
use std::sync::Arc;

impl<'a> Binder<'a> {
    /// The items of FROM, side by side; nothing gives one row without columns. An item with LATERAL, or a table function, sees those
    /// to its left.
    pub(super) fn from(&mut self, items: &[TableExpr]) -> Result<(LogicalPlan, Scope)> {
        let mut plan = LogicalPlan::OneRow;
        let mut scope = Scope::default();
        for item in items {
            let (right, right_scope) = self.table_expr(item, &scope)?;
            plan = self.beside(plan, right);
            scope = self.side_by_side(scope, right_scope, &[]);
        }
        Ok((plan, scope))
    }

    /// A table; `left` is what LATERAL sees.
    pub(super) fn table_expr(&mut self, item: &TableExpr, left: &Scope) -> Result<(LogicalPlan, Scope)> {
        crate::control::checkpoint()?;
        let (plan, scope) = self.table_in_from(item, left)?;
        // The sides of a join have come here before it; what it may add is a name for the columns of USING.
        let new = if matches!(item, TableExpr::Join(_)) { scope.relations.len().saturating_sub(1) } else { 0 };
        scope.relations[new..].iter().for_each(|relation| self.guide.add_relation(relation));
        Ok((plan, scope))
    }

    fn table_in_from(&mut self, item: &TableExpr, left: &Scope) -> Result<(LogicalPlan, Scope)> {
        match item {
            TableExpr::Changes(changes) => self.changes(changes),
            TableExpr::Named { name, system_time, alias, span } => {
                let (plan, scope) = self.named_table(name, (alias.name.as_ref(), system_time.as_deref()), *span)?;
                Ok((plan, self.renamed(scope, alias)))
            }
            TableExpr::File { path, options, alias, span } => {
                let source = self.around.files.open(path, options).map_err(|error| error.at(*span))?;
                let table = Table {
                    name: path.clone(),
                    kind: TableKind::File,
                    source,
                    definition: None,
                    groups: Arc::default(),
                };
                let stem =
                    std::path::Path::new(path).file_stem().map_or(path.as_str().into(), |stem| stem.to_string_lossy());
                let name = alias.name.as_ref().map_or(stem.into_owned(), |alias| alias.text.clone());
                let (plan, scope) = self.scan(&table, None, name);
                Ok((plan, self.renamed(scope, alias)))
            }
            TableExpr::Derived { query, lateral, alias, .. } => {
                self.note_needless_order(query);
                let (plan, output) = if *lateral {
                    self.inner(At { scope: left, clause: Clause::From }, |binder| binder.query(query))?
                } else {
                    self.query(query)?
                };
                let (plan, output) = self.with_own_ids(plan, output);
                let name = alias.name.as_ref().map_or_else(String::new, |name| name.text.clone());
                let scope = self.derived_scope(name, &output);
                Ok((plan, self.renamed(scope, alias)))
            }
            TableExpr::Call { name, args, alias, span } => {
                let left = left.clone();
                let (plan, scope) = self.inner(At { scope: &left, clause: Clause::From }, |binder| {
                    binder.call_of_own((name, args), alias, *span)
                })?;
                Ok((plan, self.renamed(scope, alias)))
            }
            TableExpr::Function { call, alias } => {
                let left = left.clone();
                self.inner(At { scope: &left, clause: Clause::From }, |binder| binder.table_function(call, alias))
            }
            TableExpr::Delta(delta) => {
                let Some((_, table)) = self.around.delta.filter(|(span, _)| *span == delta.span) else {
                    let what = "a change in FROM but once, in the outermost SELECT of a statement that is run";
                    return Err(Error::not_supported(what).at(delta.span));
                };
                let name = delta.alias.name.as_ref().map_or_else(|| table.name.clone(), |alias| alias.text.clone());
                let (plan, scope) = self.scan(table, None, name);
                Ok((plan, self.renamed(scope, &delta.alias)))
            }
            TableExpr::Sampled(sampled) => {
                let (table, sample) = sampled.as_ref();
                let (plan, scope) = self.table_expr(table, left)?;
                Ok((self.sample(plan, sample)?, scope))
            }
            TableExpr::Join(join) => self.join(join, left),
        }
    }

    /// The columns of a query in FROM: two copies of one column are two columns from here on, which a grouping set may have one without the
    /// other.
    pub(super) fn with_own_ids(&mut self, plan: LogicalPlan, mut output: Vec<OutputColumn>) -> Rows {
        let mut computed = Vec::new();
        let mut known: HashSet<ColumnId> = HashSet::with_capacity_and_hasher(output.len(), Default::default());
        for column in &mut output {
            if !known.insert(column.id) {
                let copy = self.columns.copy(column.id);
                computed.push((copy, self.column(column.id, Span::default())));
                column.id = copy;
            }
        }
        let plan = if computed.is_empty() { plan } else { plan.project(computed) };
        (plan, output)
    }

    /// A query's columns as a table of this name.
    pub(super) fn derived_scope(&mut self, name: String, output: &[OutputColumn]) -> Scope {
        let columns: Vec<ScopeColumn> =
            output.iter().map(|column| ScopeColumn { name: column.name.clone(), id: column.id }).collect();
        Scope::of(Relation::new(name, columns))
    }

    /// `AS name (a, b, …)`: other names for all columns.
    pub(super) fn renamed(&mut self, mut scope: Scope, alias: &TableAlias) -> Scope {
        let Some(names) = &alias.columns else { return scope };
        let Some(relation) = scope.relations.first_mut() else { return scope };
        if !rename(&mut relation.columns, names) {
            let known = relation.columns.iter().map(|column| column.name.clone()).collect();
            let (what, span) = (relation.name.clone(), names[0].span.to(names[names.len() - 1].span));
            let names = names.iter().map(|name| name.text.clone()).collect();
            self.report(&Problem::ColumnNames { what, names, columns: known }, span);
            return scope;
        }
        for column in &relation.columns {
            self.columns.rename_computed(column.id, &relation.name, &column.name);
        }
        scope.star.clone_from(&relation.columns);
        scope
    }

    /// A table, view or step of WITH by its name.
    pub(super) fn named_table(
        &mut self,
        name: &[Ident],
        (alias, system_time): (Option<&Ident>, Option<&SystemTimeClause>),
        span: Span,
    ) -> Result<(LogicalPlan, Scope)> {
        let no_table = |what: &str, name: &str| {
            let message = format!("{name:?} is {what}: FOR SYSTEM_TIME is written after a table");
            let help = "write it after the tables of its query";
            Error::new(SqlState::SYNTAX_OR_RULE, message).with_help(help)
        };
        if let [bare] = name
            && let Some(found) = self.with_reference(bare, alias)?
        {
            return match system_time {
                Some(clause) => Err(no_table("a common table expression", &bare.text).at(clause.span)),
                None => Ok(found),
            };
        }
        let (schema, table) = match self.lookup(name) {
            Ok(found) => found,
            // Without the table no column of the query means anything: stop here.
            Err(problem) => {
                if let Some(view) = self.find_view_in(name) {
                    if let Some(clause) = system_time {
                        return Err(no_table("a view", &view.1.name).at(clause.span));
                    }
                    let shown = alias.map_or_else(|| view.1.name.clone(), |alias| alias.text.clone());
                    return self.view(view, shown, span);
                }
                return Err(about_name(&problem, name, span).with_related(std::mem::take(&mut self.problems)));
            }
        };
        let shown = alias.map_or_else(|| table.name.clone(), |alias| alias.text.clone());
        let (plan, mut scope) = self.scan_versions((&table, schema, shown), system_time, span)?;
        if alias.is_some() {
            for relation in &mut scope.relations {
                relation.hidden_name = Some(table.name.clone());
                relation.schema = None;
            }
        }
        Ok((plan, scope))
    }

    /// The schemas in which a name without one is looked up, in order: in a query that the database keeps only its own.
    pub(super) fn schemas_of_bare_names(&self) -> Vec<&'a Schema> {
        let own = std::iter::once(self.schema);
        let in_view = !std::ptr::eq(self.schema, self.around.schema);
        let path = if in_view { &[] } else { self.around.path };
        let all = own.chain(path.iter().map(String::as_str));
        all.filter_map(|name| self.around.catalog.schema(name)).map(Arc::as_ref).collect()
    }

    /// The schema that is named, or those of names without one.
    pub(super) fn schemas_of(&self, name: Option<&Ident>) -> Vec<&'a Schema> {
        match name {
            None => self.schemas_of_bare_names(),
            Some(name) => {
                let schemas = self.around.catalog.schemas.iter();
                schemas.filter(|known| name.matches(&known.name)).map(Arc::as_ref).collect()
            }
        }
    }

    /// The table that a name means, with its schema.
    pub(super) fn lookup(&self, name: &[Ident]) -> Result<(String, Table), Problem> {
        let catalog = self.around.catalog;
        let default = Ident { text: self.schema.to_owned(), quoted: false, span: Span::default() };
        // A table of the session's own hides others of its name, though not from the views of the database.
        let in_view = !std::ptr::eq(self.schema, self.around.schema);
        if let [table] = name
            && !in_view
            && let Some(own) = catalog.schema(LOCAL_SCHEMA)
            && let Some(found) = own.tables.iter().find(|known| table.matches(&known.name))
        {
            return Ok((own.name.clone(), found.clone()));
        }
        if let [table] = name
            && !in_view
        {
            for schema in self.schemas_of_bare_names().iter().skip(1) {
                let earlier_view = self.view_of(name, self.schema).is_some();
                let here =
                    catalog.schema(self.schema).is_some_and(|own| own.tables.iter().any(|t| table.matches(&t.name)));
                if earlier_view || here {
                    break;
                }
                if let Some(found) = schema.tables.iter().find(|known| table.matches(&known.name)) {
                    return Ok((schema.name.clone(), found.clone()));
                }
                if schema.views.iter().any(|view| table.matches(&view.name)) {
                    break;
                }
            }
        }
        let (schema_name, table_name) = match name {
            [table] => (&default, table),
            [schema, table] => (schema, table),
            _ => return Err(Problem::NameTooLong),
        };
        if schema_name.matches(super::information_schema::NAME)
            && let Some(table) = super::information_schema::table(catalog, table_name)
        {
            return Ok((super::information_schema::NAME.into(), table));
        }
        let Some(schema) = catalog.schemas.iter().find(|schema| schema_name.matches(&schema.name)) else {
            let known = catalog.schemas.iter().map(|schema| schema.name.clone()).collect();
            return Err(Problem::NoSuchSchema { name: schema_name.text.clone(), known });
        };
        if let Some(table) = schema.tables.iter().find(|table| table_name.matches(&table.name)) {
            return Ok((schema.name.clone(), table.clone()));
        }
        let names: Vec<String> = schema.tables.iter().map(|table| table.name.clone()).collect();
        let elsewhere =
            catalog.schemas.iter().flat_map(|schema| schema.tables.iter().map(move |table| (schema, table)));
        if let Some(error) = self.around.files.broken(&schema.name, &table_name.text) {
            return Err(Problem::BrokenFile { name: table_name.text.clone(), error: Box::new(error) });
        }
        Err(Problem::NoSuchTable {
            name: table_name.text.clone(),
            near: nearest(&table_name.text, names.iter().map(String::as_str)).map(str::to_owned),
            elsewhere: elsewhere
                .filter(|(_, table)| table_name.matches(&table.name))
                .map(|(schema, table)| format!("{}.{}", schema.name, table.name))
                .collect(),
            known: names,
        })
    }

    /// A read of a table, and its columns as the statement sees them.
    pub(super) fn scan(&mut self, table: &Table, schema: Option<String>, name: String) -> (LogicalPlan, Scope) {
        self.note_header_in_one(table);
        let known = schema.as_deref().and_then(|schema| self.known_columns(schema, &table.name));
        let mut columns = Vec::new();
        let mut visible = Vec::new();
        for (position, column) in table.source.columns().iter().enumerate() {
            let id = self.columns.add(ColumnInfo {
                qualifier: Some(name.clone()),
                name: column.name.clone(),
                sql_type: column.sql_type,
                limit: table.definition.as_ref().and_then(|made| made.columns.get(position)?.limit),
                origin: Some((Arc::clone(&table.source), position)),
                nulls: stored_nulls(table, position),
            });
            columns.push((id, position));
            visible.push(ScopeColumn { name: column.name.clone(), id });
        }
        let ids: Vec<ColumnId> = columns.iter().map(|(id, _)| *id).collect();
        self.columns.add_groups(&ids, &table.groups);
        let shown = |at: &usize| {
            let defined = table.definition.as_ref().and_then(|definition| definition.columns.get(*at));
            !defined.is_some_and(|column| column.hidden)
        };
        let mut star: Vec<ScopeColumn> = (0..visible.len()).filter(shown).map(|at| visible[at].clone()).collect();
        if let Some(known) = known {
            self.as_known(known, &mut visible, &mut star);
        }
        let indexes = table.definition.as_deref().map(|made| scan_indexes(made, self.around)).unwrap_or_default();
        let references = table.definition.as_deref().map(|made| self.references_of(made)).unwrap_or_default();
        let plan = LogicalPlan::Scan(Scan {
            table: table.name.clone(),
            kind: table.kind,
            alias: name.clone(),
            source: Arc::clone(&table.source),
            columns,
            filter: Vec::new(),
            indexes,
            references,
            versions: Vec::new(),
        });
        let place = |at: usize| ids[at];
        let defined = table.definition.as_deref();
        let periods = defined.map(|made| super::period::scope_periods(made, place)).unwrap_or_default();
        let relation = Relation { schema, periods, ..Relation::new(name, visible) };
        (plan, Scope { relations: vec![relation], star })
    }

    /// The foreign keys of a table that hold at every moment.
    fn references_of(&self, definition: &TableDefinition) -> Vec<ScanReference> {
        let certain = |key: &&ForeignKey| key.timing == Timing::AtOnce && !key.unproven && key.periods.is_none();
        let reference = |key: &ForeignKey| {
            let target = self.around.catalog.table(&key.table.0, &key.table.1)?;
            let (columns, referred) = (key.columns.clone(), key.referred.clone());
            Some(ScanReference { columns, target: Arc::clone(&target.source), referred })
        };
        definition.references.iter().filter(certain).filter_map(reference).collect()
    }

    /// A table function; its arguments have been given the scope to its left as an outer one.
    fn table_function(&mut self, call: &TableCall, alias: &TableAlias) -> Result<(LogicalPlan, Scope)> {
        let nothing = Scope::default();
        let at = At { scope: &nothing, clause: Clause::From };
        let (name, expand, types, ordinality) = match call {
            TableCall::Series(args) => {
                let args = self.all(args, at)?;
                let span = args.first().map_or_else(Span::default, Expr::span);
                let (expand, sql_type) = self.series(args, span);
                ("series", expand, vec![("value".to_owned(), sql_type)], false)
            }
            TableCall::Unnest { arrays, ordinality } => {
                let arrays = self.all(arrays, at)?;
                let mut types = Vec::new();
                for array in &arrays {
                    let found = array.sql_type();
                    let element = if let SqlType::Array(element) = found {
                        *element
                    } else {
                        let problem = Problem::WrongType { what: "UNNEST".into(), expected: "an array", found };
                        self.report(&problem, array.span());
                        SqlType::TEXT
                    };
                    types.push(("element".to_owned(), element));
                }
                ("unnest", Expand::Unnest(arrays), types, *ordinality)
            }
        };
        let name = alias.name.as_ref().map_or_else(|| name.to_owned(), |name| name.text.clone());
        let mut add = |column: &str, sql_type| {
            let info = ColumnInfo {
                qualifier: Some(name.clone()),
                name: column.to_owned(),
                sql_type,
                limit: None,
                origin: None,
                nulls: StoredNulls::Possible,
            };
            self.columns.add(info)
        };
        let columns: Vec<ColumnId> = types.iter().map(|(column, sql_type)| add(column, *sql_type)).collect();
        let ordinality = ordinality.then(|| add("ordinality", SqlType::BigInt));
        let visible = columns
            .iter()
            .copied()
            .chain(ordinality)
            .map(|id| ScopeColumn { name: self.columns.get(id).name.clone(), id });
        let relation = Relation::new(name, visible.collect());
        let exprs = match expand {
            Expand::Series(bounds) => bounds.to_vec(),
            Expand::Unnest(arrays) => arrays,
        };
        let series = matches!(call, TableCall::Series(_));
        let (input, exprs) = self.attach_all(LogicalPlan::OneRow, exprs);
        let expand = match <[Expr; 3]>::try_from(exprs) {
            Ok(bounds) if series => Expand::Series(Box::new(bounds)),
            Ok(arrays) => Expand::Unnest(arrays.to_vec()),
            Err(arrays) => Expand::Unnest(arrays),
        };
        let plan = LogicalPlan::Expand { input: Box::new(input), expand, columns, ordinality };
        let scope = Scope::of(relation);
        Ok((plan, self.renamed(scope, alias)))
    }

    /// `SERIES(from, to [, step])` of numbers, days or timestamps; both ends belong to it. The step is 1, or a day.
    fn series(&mut self, mut args: Vec<Expr>, span: Span) -> (Expand, SqlType) {
        let found = args.len();
        let step = if found == 3 { args.pop() } else { None };
        let pair = <[Expr; 2]>::try_from(args).ok().and_then(|[from, to]| self.unify_pair(from, to, span));
        let Some((from, to)) = pair else {
            if !(2..=3).contains(&found) {
                self.report(
                    &Problem::ArgumentCount { name: "SERIES", expected: "two or three arguments", found },
                    span,
                );
            }
            let nothing = || super::stand_in(span);
            return (Expand::Series(Box::new([nothing(), nothing(), nothing()])), SqlType::BigInt);
        };
        let sql_type = from.sql_type();
        if sql_type.is_datetime() && !matches!(sql_type, SqlType::Time | SqlType::TimeTz) {
            let day = Expr::literal(Value::Micros(crate::types::MICROS_PER_DAY), SqlType::DayTime, span);
            let step = step.unwrap_or(day);
            if !step.sql_type().is_interval() {
                let problem = Problem::WrongType {
                    what: "the step of SERIES".into(),
                    expected: "an interval",
                    found: step.sql_type(),
                };
                self.report(&problem, step.span());
            }
            return (Expand::Series(Box::new([from, to, step])), sql_type);
        }
        let sql_type = if sql_type == SqlType::Null { SqlType::Integer } else { sql_type };
        if !sql_type.is_number() {
            let expected = "numbers, days or timestamps";
            self.report(&Problem::WrongType { what: "SERIES".into(), expected, found: sql_type }, span);
        }
        let step = step.unwrap_or_else(|| Expr::literal(Value::Integer(1), SqlType::Integer, span));
        let common = sql_type.common(step.sql_type()).filter(|common| common.is_number()).unwrap_or(sql_type);
        let common = if common == SqlType::Null { SqlType::Integer } else { common };
        let bring = |this: &mut Self, expr| this.coerce(expr, common);
        (Expand::Series(Box::new([bring(self, from), bring(self, to), bring(self, step)])), common)
    }
}

/// Whether a column of a table may hold a NULL: a constraint tells, or what was counted in a file.
fn stored_nulls(table: &Table, position: usize) -> StoredNulls {
    match table.definition.as_ref().and_then(|definition| definition.columns.get(position)) {
        Some(column) if column.not_null => StoredNulls::Forbidden,
        None if table.kind == TableKind::File => StoredNulls::AsCounted,
        Some(_) | None => StoredNulls::Possible,
    }
}

/// Gives all columns other names; not when their numbers differ.
pub(super) fn rename(columns: &mut [ScopeColumn], names: &[Ident]) -> bool {
    if columns.len() != names.len() {
        return false;
    }
    for (column, name) in columns.iter_mut().zip(names) {
        column.name.clone_from(&name.text);
    }
    true
}

/// The error about a name, of whose parts the last can be replaced.
pub(super) fn about_name(problem: &Problem, name: &[Ident], span: Span) -> Error {
    let error = Error::from_facts(problem).at(span);
    match name.last() {
        Some(last) => error.replacing(last.span),
        None => error,
    }
}
