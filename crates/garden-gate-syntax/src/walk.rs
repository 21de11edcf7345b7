//! Walks over the syntax tree, for what is asked of it before names mean anything.

use super::ast::{
    Call, Expr, ExprKind, GroupingElement, Ident, Join, JoinCondition, Over, Query, QueryBody, Select, SelectItem,
    TableCall, TableExpr, WithElement,
};

impl Expr {
    /// Calls `visit` for each expression directly below this one, in this query.
    pub fn for_each_child<'e>(&'e self, visit: &mut dyn FnMut(&'e Expr)) {
        match &self.kind {
            ExprKind::Name(_)
            | ExprKind::Literal(..)
            | ExprKind::Parameter(_)
            | ExprKind::Now(_)
            | ExprKind::NextValue(_)
            | ExprKind::CaseOperand
            | ExprKind::Exists(_)
            | ExprKind::Unique(..)
            | ExprKind::Subquery(_)
            | ExprKind::ArrayQuery(_) => {}
            ExprKind::And(terms)
            | ExprKind::Or(terms)
            | ExprKind::Row(terms)
            | ExprKind::Array(terms)
            | ExprKind::Form(_, terms) => {
                terms.iter().for_each(visit);
            }
            ExprKind::Not(operand)
            | ExprKind::Negate(operand)
            | ExprKind::Cast(operand, ..)
            | ExprKind::CastToDomain(operand, _)
            | ExprKind::CastToFields(operand, _)
            | ExprKind::Is { operand, .. }
            | ExprKind::InQuery { operand, .. }
            | ExprKind::Quantified { operand, .. }
            | ExprKind::Extract(_, operand)
            | ExprKind::TruncateTo(_, operand)
            | ExprKind::Field(operand, _)
            | ExprKind::Difference(operand, _) => visit(operand),
            ExprKind::Compare(_, pair)
            | ExprKind::Arithmetic(_, pair)
            | ExprKind::Concat(pair)
            | ExprKind::Period(pair)
            | ExprKind::PeriodTest(_, pair)
            | ExprKind::Element(pair)
            | ExprKind::Distinct { operands: pair, .. } => {
                visit(&pair.left);
                visit(&pair.right);
            }
            ExprKind::Like { operands, escape: more, .. }
            | ExprKind::Similar { operands, escape: more, .. }
            | ExprKind::LikeRegex { operands, flag: more, .. } => {
                visit(&operands.left);
                visit(&operands.right);
                more.iter().for_each(|more| visit(more));
            }
            ExprKind::Between { operands, .. } => operands.iter().for_each(visit),
            ExprKind::Overlaps(operands) => operands.iter().for_each(visit),
            ExprKind::In { operand, list, .. } => {
                visit(operand);
                list.iter().for_each(visit);
            }
            ExprKind::Nested(nested) => {
                if let Some(value) = &nested.value {
                    visit(&value.value);
                    value.default.iter().for_each(&mut *visit);
                }
            }
            ExprKind::AtZone(operand, zone) => {
                visit(operand);
                zone.iter().for_each(|zone| visit(zone));
            }
            ExprKind::Case(case) => {
                case.operand.iter().chain(&case.otherwise).for_each(&mut *visit);
                for (when, then) in &case.branches {
                    visit(when);
                    visit(then);
                }
            }
            ExprKind::Call(call) => call.for_each_child(visit),
        }
    }

    /// Whether `wanted` holds for this expression or one below it, in this query.
    pub fn any(&self, wanted: &mut dyn FnMut(&Expr) -> bool) -> bool {
        if wanted(self) {
            return true;
        }
        let mut found = false;
        self.for_each_child(&mut |child| found = found || child.any(wanted));
        found
    }

    /// The query directly inside this expression.
    pub fn query(&self) -> Option<&Query> {
        match &self.kind {
            ExprKind::Exists(query)
            | ExprKind::Unique(query, _)
            | ExprKind::Subquery(query)
            | ExprKind::ArrayQuery(query)
            | ExprKind::InQuery { query, .. }
            | ExprKind::Quantified { query, .. } => Some(query),
            _ => None,
        }
    }

    /// Calls `visit` for this expression and all below it, those of the queries inside it among them.
    fn for_each_expr(&self, visit: &mut dyn FnMut(&Expr)) {
        visit(self);
        self.query().into_iter().for_each(|query| query.for_each_expr(visit));
        self.for_each_child(&mut |child| child.for_each_expr(visit));
    }

    fn for_each_table(&self, visit: &mut dyn FnMut(&[Ident])) {
        self.query().into_iter().for_each(|query| query.for_each_table(visit));
        self.for_each_child(&mut |child| child.for_each_table(visit));
    }
}

impl Call {
    fn for_each_child<'e>(&'e self, visit: &mut dyn FnMut(&'e Expr)) {
        self.args.iter().chain(&self.filter).chain(self.order.iter().map(|item| &item.expr)).for_each(&mut *visit);
        if let Some(Over::Spec(spec)) = &self.over {
            spec.partition.iter().chain(spec.order.iter().map(|item| &item.expr)).for_each(visit);
        }
    }
}

impl Query {
    /// Calls `visit` for the name of each table anywhere in the query; not for names that a WITH of its own gives there.
    pub fn for_each_table(&self, visit: &mut dyn FnMut(&[Ident])) {
        let Some(with) = &self.with else { return self.for_each_table_behind_with(visit) };
        let elements = with.elements.as_slice();
        for (at, element) in elements.iter().enumerate() {
            let given = if with.recursive { elements } else { &elements[..at] };
            element.query.for_each_table(&mut |name| visit_unless(given, name, visit));
        }
        self.for_each_table_behind_with(&mut |name| visit_unless(elements, name, visit));
    }

    fn for_each_table_behind_with(&self, visit: &mut dyn FnMut(&[Ident])) {
        self.body.for_each_table(visit);
        self.order_by.iter().for_each(|item| item.expr.for_each_table(visit));
    }

    /// Calls `visit` for each expression anywhere in the query.
    pub fn for_each_expr(&self, visit: &mut dyn FnMut(&Expr)) {
        if let Some(with) = &self.with {
            with.elements.iter().for_each(|element| element.query.for_each_expr(visit));
        }
        self.body.for_each_expr(visit);
        self.order_by.iter().for_each(|item| item.expr.for_each_expr(visit));
    }
}

/// Visits a name that none of these elements of WITH gives.
fn visit_unless(given: &[WithElement], name: &[Ident], visit: &mut dyn FnMut(&[Ident])) {
    let hidden = matches!(name, [bare] if given.iter().any(|element| bare.matches(&element.name.text)));
    if !hidden {
        visit(name);
    }
}

impl QueryBody {
    /// Visits the names of tables in the body of a query.
    pub fn for_each_table(&self, visit: &mut dyn FnMut(&[Ident])) {
        match self {
            Self::Nested(query) => query.for_each_table(visit),
            Self::Table(name, _) => visit(name),
            Self::Values(rows) => rows.iter().flatten().for_each(|expr| expr.for_each_table(visit)),
            Self::SetOperation(operation) => {
                operation.operands.iter().for_each(|operand| operand.for_each_table(visit));
            }
            Self::Select(select) => {
                for item in &select.items {
                    if let SelectItem::Expr { expr, .. } = item {
                        expr.for_each_table(visit);
                    }
                }
                select.from.iter().for_each(|table| table.for_each_table(visit));
                select.where_.iter().chain(&select.having).for_each(|expr| expr.for_each_table(visit));
                if let Some(group_by) = &select.group_by {
                    group_by.elements.iter().for_each(|element| {
                        element.for_each_expr(&mut |expr| expr.for_each_table(visit));
                    });
                }
            }
        }
    }
}

impl QueryBody {
    fn for_each_expr(&self, visit: &mut dyn FnMut(&Expr)) {
        match self {
            Self::Nested(query) => query.for_each_expr(visit),
            Self::Table(..) => {}
            Self::Values(rows) => rows.iter().flatten().for_each(|expr| expr.for_each_expr(visit)),
            Self::SetOperation(operation) => {
                operation.operands.iter().for_each(|operand| operand.for_each_expr(visit));
            }
            Self::Select(select) => select.for_each_expr(visit),
        }
    }
}

impl Select {
    fn for_each_expr(&self, visit: &mut dyn FnMut(&Expr)) {
        for item in &self.items {
            if let SelectItem::Expr { expr, .. } = item {
                expr.for_each_expr(visit);
            }
        }
        self.from.iter().for_each(|table| table.for_each_expr(visit));
        self.where_.iter().chain(&self.having).for_each(|expr| expr.for_each_expr(visit));
        for element in self.group_by.iter().flat_map(|group_by| &group_by.elements) {
            element.for_each_expr(&mut |expr| expr.for_each_expr(visit));
        }
    }
}

impl GroupingElement {
    /// Visits the expressions that rows are grouped by.
    pub fn for_each_expr(&self, visit: &mut dyn FnMut(&Expr)) {
        match self {
            Self::Set(exprs) => exprs.iter().for_each(visit),
            Self::Rollup(sets) | Self::Cube(sets) => sets.iter().flatten().for_each(visit),
            Self::Sets(elements) => elements.iter().for_each(|element| element.for_each_expr(visit)),
        }
    }
}

impl TableExpr {
    fn for_each_expr(&self, visit: &mut dyn FnMut(&Expr)) {
        match self {
            Self::File { .. } | Self::Delta(_) => {}
            Self::Named { system_time, .. } => {
                let exprs = system_time.iter().flat_map(|clause| clause.exprs());
                exprs.for_each(|expr| expr.for_each_expr(visit));
            }
            Self::Changes(changes) => {
                changes.from.expr().for_each_expr(visit);
                changes.to.expr().for_each_expr(visit);
            }
            Self::Derived { query, .. } => query.for_each_expr(visit),
            Self::Function { call: TableCall::Series(args) | TableCall::Unnest { arrays: args, .. }, .. }
            | Self::Call { args, .. } => args.iter().for_each(|arg| arg.for_each_expr(visit)),
            Self::Sampled(sampled) => sampled.0.for_each_expr(visit),
            Self::Join(join) => {
                join.left.for_each_expr(visit);
                join.right.for_each_expr(visit);
                if let JoinCondition::On(condition) = &join.condition {
                    condition.for_each_expr(visit);
                }
            }
        }
    }

    fn for_each_table(&self, visit: &mut dyn FnMut(&[Ident])) {
        match self {
            Self::Named { name, .. } => visit(name),
            Self::File { .. } => {}
            Self::Changes(changes) => visit(&changes.table),
            Self::Derived { query, .. } => query.for_each_table(visit),
            Self::Function { call: TableCall::Series(args) | TableCall::Unnest { arrays: args, .. }, .. } => {
                args.iter().for_each(|arg| arg.for_each_table(visit));
            }
            Self::Call { args, .. } => args.iter().for_each(|arg| arg.for_each_table(visit)),
            Self::Delta(delta) => visit(&delta.change.table),
            Self::Sampled(sampled) => sampled.0.for_each_table(visit),
            Self::Join(join) => {
                let Join { left, right, condition, .. } = join.as_ref();
                left.for_each_table(visit);
                right.for_each_table(visit);
                if let JoinCondition::On(condition) = condition {
                    condition.for_each_table(visit);
                }
            }
        }
    }
}
