//! Time zones: an offset from UTC, or one of the IANA time zone database.

use super::date::{MICROS_PER_DAY, MICROS_PER_SECOND, format_time, format_timestamp, parse_offset};
use super::format_day_time;
use chrono::{DateTime, Offset, TimeZone};
use std::fmt;

/// The farthest offset from UTC, in seconds (clause 4.6.2).
const FARTHEST: i64 = 14 * 3600;

/// A time zone.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Zone {
    /// So many seconds ahead of UTC all year.
    Fixed(i64),
    /// Of the IANA time zone database, such as `Europe/Vienna`: its offset depends on the moment.
    Named(chrono_tz::Tz),
}

impl Default for Zone {
    fn default() -> Self {
        Self::UTC
    }
}

impl Zone {
    pub const UTC: Self = Self::Fixed(0);

    /// The zone that a text names: `+02:00`, `UTC`, `Z`, `Europe/Vienna`.
    pub fn parse(text: &str) -> Option<Self> {
        let text = text.trim();
        if text.eq_ignore_ascii_case("UTC") || text.eq_ignore_ascii_case("Z") {
            return Some(Self::UTC);
        }
        if let Some(seconds) = parse_offset(text) {
            return Self::fixed(seconds);
        }
        let exactly = text.parse::<chrono_tz::Tz>().ok();
        let found =
            exactly.or_else(|| chrono_tz::TZ_VARIANTS.into_iter().find(|zone| zone.name().eq_ignore_ascii_case(text)));
        found.map(Self::Named)
    }

    /// The zone that is so many seconds ahead of UTC.
    pub fn fixed(seconds: i64) -> Option<Self> {
        (seconds.abs() <= FARTHEST).then_some(Self::Fixed(seconds))
    }

    /// The zone whose name a text comes near: that of a city, or one with a slip.
    pub fn near(text: &str) -> Option<&'static str> {
        let text = text.trim().replace(' ', "_");
        let names = || chrono_tz::TZ_VARIANTS.into_iter().map(|zone| zone.name());
        let of_city = |name: &&str| name.rsplit('/').next().is_some_and(|city| city.eq_ignore_ascii_case(&text));
        names().find(of_city).or_else(|| {
            if text.len() < 5 {
                return None;
            }
            let distance =
                |name: &'static str| (strsim::osa_distance(&text.to_lowercase(), &name.to_lowercase()), name);
            names().map(distance).filter(|(distance, _)| *distance <= 2).min().map(|(_, name)| name)
        })
    }

    /// How many microseconds its clocks are ahead of UTC at a moment (microseconds since 1970).
    pub fn ahead(self, moment: i64) -> i64 {
        let seconds = match self {
            Self::Fixed(seconds) => seconds,
            Self::Named(zone) => DateTime::from_timestamp_micros(moment)
                .map_or(0, |moment| zone.offset_from_utc_datetime(&moment.naive_utc()).fix().local_minus_utc().into()),
        };
        seconds * MICROS_PER_SECOND
    }

    /// The moment at which its clocks show a time. Of two such moments, as when clocks are put back, it is the earlier one; a time that
    /// clocks put forward omit is as much later as they are put forward.
    pub fn moment_of(self, local: i64) -> Option<i64> {
        let seconds = match self {
            Self::Fixed(seconds) => seconds,
            Self::Named(zone) => {
                let ahead = |local: i64| {
                    let local = DateTime::from_timestamp_micros(local)?.naive_utc();
                    Some(zone.offset_from_local_datetime(&local).earliest()?.fix().local_minus_utc())
                };
                // The offset before the gap holds a day earlier; no zone has omitted two days.
                let found = ahead(local).or_else(|| ahead(local - MICROS_PER_DAY));
                found.or_else(|| ahead(local - 2 * MICROS_PER_DAY))?.into()
            }
        };
        local.checked_sub(seconds * MICROS_PER_SECOND)
    }

    /// An instant as clocks of the zone show it, with their offset.
    pub fn text_of_instant(self, micros: i64) -> String {
        let ahead = self.ahead(micros);
        format!("{}{}", format_timestamp(micros.saturating_add(ahead)), offset_text(ahead))
    }
}

/// `+02:00`; with seconds where a zone had such an offset, as before there were standard times.
fn offset_text(micros: i64) -> String {
    let sign = if micros < 0 { '-' } else { '+' };
    let text = format_time(micros.abs());
    format!("{sign}{}", text.strip_suffix(":00").unwrap_or(&text))
}

impl fmt::Display for Zone {
    /// As [`Zone::parse`] reads it.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Fixed(0) => f.write_str("UTC"),
            Self::Fixed(seconds) => f.write_str(&offset_text(seconds * MICROS_PER_SECOND)),
            Self::Named(zone) => f.write_str(zone.name()),
        }
    }
}

/// The zone that an interval from UTC means; its text when there is none so far away.
pub fn zone_of_interval(micros: i64) -> Result<Zone, String> {
    let seconds = micros / MICROS_PER_SECOND;
    let whole = micros % MICROS_PER_SECOND == 0;
    Zone::fixed(seconds).filter(|_| whole).ok_or_else(|| format_day_time(micros))
}
