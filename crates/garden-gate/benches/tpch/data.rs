//! The tables of the benchmark, made in memory.

use garden_gate::arrow::array::{ArrayRef, Date32Array, Decimal64Array, Int32Array, Int64Array, StringViewBuilder};
use garden_gate::{Column, Database, SqlType, source::Segment};
use std::sync::Arc;
use tpchgen::generators::{
    CustomerGenerator, LineItemGenerator, NationGenerator, OrderGenerator, PartGenerator, PartSuppGenerator,
    RegionGenerator, SupplierGenerator,
};

const SEGMENT_ROWS: usize = 131_072;

/// A value of one row, as the generators give it.
enum Cell<'a> {
    Key(i64),
    Number(i32),
    Cents(i64),
    Day(i32),
    Text(&'a str),
    Made(String),
}

enum Builder {
    Key(Vec<i64>),
    Number(Vec<i32>),
    Cents(Vec<i64>),
    Day(Vec<i32>),
    Text(StringViewBuilder),
}

const MONEY: SqlType = SqlType::Numeric { precision: 15, scale: 2 };

impl Builder {
    fn new(sql_type: SqlType) -> Self {
        match sql_type {
            SqlType::BigInt => Self::Key(Vec::new()),
            SqlType::Integer => Self::Number(Vec::new()),
            SqlType::Date => Self::Day(Vec::new()),
            SqlType::Numeric { .. } => Self::Cents(Vec::new()),
            _ => Self::Text(StringViewBuilder::new().with_deduplicate_strings()),
        }
    }

    fn push(&mut self, cell: Cell<'_>) {
        match (self, cell) {
            (Self::Key(values) | Self::Cents(values), Cell::Key(value) | Cell::Cents(value)) => values.push(value),
            (Self::Number(values) | Self::Day(values), Cell::Number(value) | Cell::Day(value)) => values.push(value),
            (Self::Text(texts), Cell::Text(text)) => texts.append_value(text),
            (Self::Text(texts), Cell::Made(text)) => texts.append_value(text),
            _ => unreachable!("a generator gives each column one kind of value"),
        }
    }

    fn finish(self) -> ArrayRef {
        match self {
            Self::Key(values) => Arc::new(Int64Array::from(values)),
            Self::Number(values) => Arc::new(Int32Array::from(values)),
            Self::Day(values) => Arc::new(Date32Array::from(values)),
            Self::Cents(values) => {
                Arc::new(Decimal64Array::from(values).with_precision_and_scale(15, 2).expect("15 digits fit"))
            }
            Self::Text(mut texts) => Arc::new(texts.finish()),
        }
    }
}

/// A table's columns and rows.
struct Generated {
    columns: Vec<Column>,
    segments: Vec<Segment>,
}

impl Generated {
    fn new<'a, const N: usize>(columns: [(&str, SqlType); N], rows: impl Iterator<Item = [Cell<'a>; N]>) -> Self {
        let mut segments = Vec::new();
        let fresh = || columns.iter().map(|(_, sql_type)| Builder::new(*sql_type)).collect::<Vec<_>>();
        let mut builders = fresh();
        let mut held = 0;
        let mut close = |builders: Vec<Builder>, rows: usize| {
            segments.push(Segment { columns: builders.into_iter().map(Builder::finish).collect(), rows });
        };
        for row in rows {
            row.into_iter().zip(&mut builders).for_each(|(cell, builder)| builder.push(cell));
            held += 1;
            if held == SEGMENT_ROWS {
                close(std::mem::replace(&mut builders, fresh()), held);
                held = 0;
            }
        }
        if held > 0 {
            close(builders, held);
        }
        let columns = columns.iter().map(|(name, sql_type)| Column::new(*name, *sql_type)).collect();
        Self { columns, segments }
    }
}

/// All eight tables at a scale factor.
#[expect(clippy::too_many_lines, reason = "one column after the other")]
pub(crate) fn database(scale: f64) -> Database {
    use Cell::{Cents, Day, Key, Made, Number, Text};
    use SqlType::{BigInt, Date, Integer};
    let text = SqlType::Varchar(None);
    let db = Database::in_memory();
    let add = |name: &str, table: Generated| {
        db.add_segments(name, &table.columns, table.segments).expect("arrays of the types promised");
    };
    let region = RegionGenerator::new(scale, 1, 1);
    add(
        "region",
        Generated::new(
            [("r_regionkey", BigInt), ("r_name", text), ("r_comment", text)],
            region.iter().map(|r| [Key(r.r_regionkey), Text(r.r_name), Text(r.r_comment)]),
        ),
    );
    let nation = NationGenerator::new(scale, 1, 1);
    add(
        "nation",
        Generated::new(
            [("n_nationkey", BigInt), ("n_name", text), ("n_regionkey", BigInt), ("n_comment", text)],
            nation.iter().map(|n| [Key(n.n_nationkey), Text(n.n_name), Key(n.n_regionkey), Text(n.n_comment)]),
        ),
    );
    add(
        "part",
        Generated::new(
            [
                ("p_partkey", BigInt),
                ("p_name", text),
                ("p_mfgr", text),
                ("p_brand", text),
                ("p_type", text),
                ("p_size", Integer),
                ("p_container", text),
                ("p_retailprice", MONEY),
                ("p_comment", text),
            ],
            PartGenerator::new(scale, 1, 1).iter().map(|p| {
                let made = [p.p_name.to_string(), p.p_mfgr.to_string(), p.p_brand.to_string()];
                let [name, maker, brand] = made.map(Made);
                let (size, price) = (Number(p.p_size), Cents(p.p_retailprice.0));
                [
                    Key(p.p_partkey),
                    name,
                    maker,
                    brand,
                    Text(p.p_type),
                    size,
                    Text(p.p_container),
                    price,
                    Text(p.p_comment),
                ]
            }),
        ),
    );
    add(
        "supplier",
        Generated::new(
            [
                ("s_suppkey", BigInt),
                ("s_name", text),
                ("s_address", text),
                ("s_nationkey", BigInt),
                ("s_phone", text),
                ("s_acctbal", MONEY),
                ("s_comment", text),
            ],
            SupplierGenerator::new(scale, 1, 1).iter().map(|s| {
                let (name, address, phone) = (s.s_name.to_string(), s.s_address.to_string(), s.s_phone.to_string());
                let (nation, balance) = (Key(s.s_nationkey), Cents(s.s_acctbal.0));
                [
                    Key(s.s_suppkey),
                    Made(name),
                    Made(address),
                    nation,
                    Made(phone),
                    balance,
                    Made(s.s_comment.to_string()),
                ]
            }),
        ),
    );
    add(
        "partsupp",
        Generated::new(
            [
                ("ps_partkey", BigInt),
                ("ps_suppkey", BigInt),
                ("ps_availqty", Integer),
                ("ps_supplycost", MONEY),
                ("ps_comment", text),
            ],
            PartSuppGenerator::new(scale, 1, 1).iter().map(|p| {
                let (quantity, cost) = (Number(p.ps_availqty), Cents(p.ps_supplycost.0));
                [Key(p.ps_partkey), Key(p.ps_suppkey), quantity, cost, Text(p.ps_comment)]
            }),
        ),
    );
    add(
        "customer",
        Generated::new(
            [
                ("c_custkey", BigInt),
                ("c_name", text),
                ("c_address", text),
                ("c_nationkey", BigInt),
                ("c_phone", text),
                ("c_acctbal", MONEY),
                ("c_mktsegment", text),
                ("c_comment", text),
            ],
            CustomerGenerator::new(scale, 1, 1).iter().map(|c| {
                let (name, address, phone) = (c.c_name.to_string(), c.c_address.to_string(), c.c_phone.to_string());
                let (nation, balance) = (Key(c.c_nationkey), Cents(c.c_acctbal.0));
                let (segment, comment) = (Text(c.c_mktsegment), Text(c.c_comment));
                [Key(c.c_custkey), Made(name), Made(address), nation, Made(phone), balance, segment, comment]
            }),
        ),
    );
    add(
        "orders",
        Generated::new(
            [
                ("o_orderkey", BigInt),
                ("o_custkey", BigInt),
                ("o_orderstatus", text),
                ("o_totalprice", MONEY),
                ("o_orderdate", Date),
                ("o_orderpriority", text),
                ("o_clerk", text),
                ("o_shippriority", Integer),
                ("o_comment", text),
            ],
            OrderGenerator::new(scale, 1, 1).iter().map(|o| {
                let (status, clerk) = (Made(o.o_orderstatus.to_string()), Made(o.o_clerk.to_string()));
                let (price, day) = (Cents(o.o_totalprice.0), Day(o.o_orderdate.to_unix_epoch()));
                let (priority, comment) = (Text(o.o_orderpriority), Text(o.o_comment));
                [
                    Key(o.o_orderkey),
                    Key(o.o_custkey),
                    status,
                    price,
                    day,
                    priority,
                    clerk,
                    Number(o.o_shippriority),
                    comment,
                ]
            }),
        ),
    );
    add("lineitem", lineitem(scale));
    db
}

fn lineitem(scale: f64) -> Generated {
    use Cell::{Cents, Day, Key, Number, Text};
    use SqlType::{BigInt, Date, Integer};
    let text = SqlType::Varchar(None);
    Generated::new(
        [
            ("l_orderkey", BigInt),
            ("l_partkey", BigInt),
            ("l_suppkey", BigInt),
            ("l_linenumber", Integer),
            ("l_quantity", MONEY),
            ("l_extendedprice", MONEY),
            ("l_discount", MONEY),
            ("l_tax", MONEY),
            ("l_returnflag", text),
            ("l_linestatus", text),
            ("l_shipdate", Date),
            ("l_commitdate", Date),
            ("l_receiptdate", Date),
            ("l_shipinstruct", text),
            ("l_shipmode", text),
            ("l_comment", text),
        ],
        LineItemGenerator::new(scale, 1, 1).iter().map(|l| {
            [
                Key(l.l_orderkey),
                Key(l.l_partkey),
                Key(l.l_suppkey),
                Number(l.l_linenumber),
                Cents(l.l_quantity * 100),
                Cents(l.l_extendedprice.0),
                Cents(l.l_discount.0),
                Cents(l.l_tax.0),
                Text(l.l_returnflag),
                Text(l.l_linestatus),
                Day(l.l_shipdate.to_unix_epoch()),
                Day(l.l_commitdate.to_unix_epoch()),
                Day(l.l_receiptdate.to_unix_epoch()),
                Text(l.l_shipinstruct),
                Text(l.l_shipmode),
                Text(l.l_comment),
            ]
        }),
    )
}
