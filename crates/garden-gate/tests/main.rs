//! The library as a program meets it: statements in, rows, plans and messages out.
#![expect(clippy::unwrap_used, reason = "a test stops at what it does not expect")]

mod conformance;
mod conversions;
mod edges;
mod examples;
mod files;
mod functions;
mod grouping;
mod joins;
mod layering;
mod limits;
mod logic;
mod messages;
mod names;
mod numbers;
mod ordering;
mod parallel;
mod parameters;
mod plans;
mod predicates;
mod random_queries;
mod recursion;
mod reference;
mod results;
mod rules;
mod sessions;
mod set_operators;
mod subqueries;
mod support;
mod syntax;
mod temporal;
mod tpch;
mod whole;
mod windows;
