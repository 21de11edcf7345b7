//! Times of zones (clause 6.35): what clocks show at a moment, and the moment at which they show it.

use super::Arguments;
use crate::cast::{held_to, read_timestamp};
use crate::keys::{from_integer_lanes, integer_lanes};
use crate::logical::ZoneFunction as F;
use crate::problem::Problem;
use crate::types::{MICROS_PER_DAY, SqlType, Zone, parse_instant, parse_time, parse_time_of_zone, zone_of_interval};
use arrow::array::{Array, ArrayRef, AsArray, StringViewBuilder};
use arrow::datatypes::DurationMicrosecondType;
use std::sync::Arc;

/// A moment AT TIME ZONE is the same moment: the zone is looked at, and not kept. LOCAL AT ZONE is what clocks there show, and MOMENT OF LOCAL
/// the moment at which they show it.
pub(super) fn moved(function: F, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let array = arguments.array(0)?;
    let lanes = integer_lanes(&array).unwrap_or_default();
    let zones = Zones::of(arguments)?;
    let of_day = matches!(arguments.types[0], SqlType::Time | SqlType::TimeTz);
    let mut values = Vec::with_capacity(lanes.len());
    let mut valid = Vec::with_capacity(lanes.len());
    for (row, value) in lanes.iter().enumerate() {
        let zone = if array.is_valid(row) { zones.at(arguments, row)? } else { None };
        valid.push(zone.is_some());
        let there = zone.map_or(Some(*value), |zone| match function {
            F::LocalAtZone => value.checked_add(zone.ahead(*value)),
            F::MomentOfLocal => zone.moment_of(*value),
            F::AtZone | F::AtLocal => Some(*value),
        });
        let there = there.ok_or(Problem::OutsideCalendar)?;
        values.push(if of_day { there.rem_euclid(MICROS_PER_DAY) } else { there });
    }
    Ok(from_integer_lanes(values, Some(valid.into()), &arguments.result.arrow()))
}

/// Instants as text, in a zone and with its offset.
pub(super) fn text_of_instant(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let array = arguments.array(0)?;
    let lanes = integer_lanes(&array).unwrap_or_default();
    let zones = Zones::of(arguments)?;
    let mut texts = StringViewBuilder::with_capacity(lanes.len());
    for (row, value) in lanes.iter().enumerate() {
        let zone = if array.is_valid(row) { zones.at(arguments, row)? } else { None };
        texts.append_option(zone.map(|zone| zone.text_of_instant(*value)));
    }
    held_to(&(Arc::new(texts.finish()) as ArrayRef), arguments.result)
}

/// The moments, or times of day, that texts mean; those without an offset are what clocks of a zone show.
pub(super) fn instant_of_text(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let texts = arguments.text(0);
    let zones = Zones::of(arguments)?;
    let mut values = Vec::with_capacity(arguments.rows);
    let mut valid = Vec::with_capacity(arguments.rows);
    for row in 0..arguments.rows {
        let pair = match texts.get(row) {
            Some(text) => zones.at(arguments, row)?.map(|zone| (text, zone)),
            None => None,
        };
        let moment = |(text, zone): (&str, Zone)| {
            let of_day = || {
                let local = || Some((parse_time(text.trim())? - zone.ahead(0)).rem_euclid(MICROS_PER_DAY));
                parse_time_of_zone(text).or_else(local)
            };
            let instant = || parse_instant(text).or_else(|| zone.moment_of(read_timestamp(text)?));
            let found = if arguments.result == SqlType::TimeTz { of_day() } else { instant() };
            found.ok_or_else(|| Problem::NoSuchValue { text: text.into(), target: arguments.result })
        };
        let moment = pair.map(moment).transpose()?;
        valid.push(moment.is_some());
        values.push(moment.unwrap_or(0));
    }
    Ok(from_integer_lanes(values, Some(valid.into()), &arguments.result.arrow()))
}

/// The zones of the second argument; a constant one is looked up once.
enum Zones {
    All(Option<Zone>),
    EachRow,
}

impl Zones {
    fn of(arguments: &Arguments<'_>) -> Result<Self, Problem> {
        match arguments.lanes.get(1) {
            None => Ok(Self::All(Some(Zone::UTC))),
            Some(lane) if lane.is_constant() => zone_at(arguments, 0).map(Self::All),
            Some(_) => Ok(Self::EachRow),
        }
    }

    fn at(&self, arguments: &Arguments<'_>, row: usize) -> Result<Option<Zone>, Problem> {
        match self {
            Self::All(zone) => Ok(*zone),
            Self::EachRow => zone_at(arguments, row),
        }
    }
}

/// The zone that a row asks for, by a name or by an interval from UTC.
fn zone_at(arguments: &Arguments<'_>, row: usize) -> Result<Option<Zone>, Problem> {
    if arguments.types[1].is_text() {
        let Some(text) = arguments.text(1).get(row) else { return Ok(None) };
        return Zone::parse(text).map(Some).ok_or_else(|| Problem::NoSuchZone { zone: text.into() });
    }
    let lane = &arguments.lanes[1];
    let array = lane.array().as_primitive::<DurationMicrosecondType>();
    let row = if lane.is_constant() { 0 } else { row };
    if array.is_null(row) {
        return Ok(None);
    }
    zone_of_interval(array.value(row)).map(Some).map_err(|zone| Problem::NoSuchZone { zone })
}
