//! SQL data types and the values of one cell.
//!
//! Everything above works in these terms; `types` itself knows nothing of tables, text or plans.

mod arrow_type;
mod bytes;
mod composite;
mod date;
mod decimal;
mod declared;
mod interval;
mod measure;
mod numeric;
mod sql_type;
mod template;
mod term;
mod value;
mod value_from;
mod value_order;
mod zone;

pub use bytes::{format_address, format_hex, format_uuid, parse_address, parse_hex, parse_uuid};
pub use composite::RowField;
pub use date::{FIRST_DAY, LAST_DAY, MICROS_PER_DAY, MICROS_PER_SECOND};
pub use date::{
    add_months, calendar_parts, date_parts, format_date, format_time, format_timestamp, month_start, parse_date,
    parse_instant, parse_time, parse_time_of_zone, parse_timestamp,
};
pub use decimal::Decimal;
pub use decimal::{divide_rounded, power_of_ten, rescale};
pub use declared::{DeclaredType, TypeLimit};
pub use interval::{Field, Fields, Interval, format_day_time, format_year_month, parse_interval};
pub use measure::{Cost, Estimate, Selectivity};
pub use numeric::{approximate, index, whole_part};
pub use sql_type::LONG_PRECISION;
pub use sql_type::SqlType;
pub use template::Template;
pub use term::{
    ArithmeticOp, CompareOp, Direction, ExtractField, FrameBound, FrameExclusion, FrameUnit, JoinKind, Now, Nulls,
    ParameterName, RowMarker, SetOp, Test, TrimSide,
};
pub use value::Value;
pub use zone::{Zone, zone_of_interval};
