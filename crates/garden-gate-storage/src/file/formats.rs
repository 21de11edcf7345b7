use super::problem::Problem;
use crate::catalog::FileOptions;
use crate::types::{SqlType, Template, date_parts, parse_date, parse_time, parse_timestamp};
use std::borrow::Cow;
use std::time::SystemTime;

/// How days, times and numbers are written in a text file.
#[derive(Clone, Debug, Default)]
pub(super) struct Formats {
    date: Option<Template>,
    time: Option<Template>,
    timestamp: Option<Template>,
    /// What appears before the fraction of a number, where it is not a point.
    decimal_mark: Option<char>,
    current_year: i64,
}

impl Formats {
    /// The templates of the options.
    pub(super) fn new(options: &FileOptions) -> Result<Self, Problem> {
        let template = |text: &Option<String>| {
            text.as_deref().map(|text| Template::parse(text).map_err(Problem::Template)).transpose()
        };
        let days = SystemTime::UNIX_EPOCH.elapsed().map_or(0, |elapsed| elapsed.as_secs() / 86_400);
        Ok(Self {
            date: template(&options.date_format)?,
            time: template(&options.time_format)?,
            timestamp: template(&options.timestamp_format)?,
            decimal_mark: options.decimal_mark.filter(|mark| *mark != '.'),
            current_year: date_parts(i32::try_from(days).unwrap_or(0)).0.into(),
        })
    }

    /// A date as the options say, or as the standard writes it.
    pub(super) fn date(&self, text: &str) -> Option<i32> {
        match &self.date {
            None => parse_date(text),
            Some(template) => i32::try_from(template.read(text, SqlType::Date, self.current_year)?).ok(),
        }
    }

    /// A time, likewise.
    pub(super) fn time(&self, text: &str) -> Option<i64> {
        match &self.time {
            None => parse_time(text),
            Some(template) => template.read(text, SqlType::Time, self.current_year),
        }
    }

    /// A timestamp, or the beginning of a day.
    pub(super) fn timestamp(&self, text: &str) -> Option<i64> {
        let written = match &self.timestamp {
            None => parse_timestamp(text),
            Some(template) => template.read(text, SqlType::Timestamp, self.current_year),
        };
        written.or_else(|| self.date(text).map(|days| i64::from(days) * crate::types::MICROS_PER_DAY))
    }

    /// A number with a point before its fraction; a number that is written with another mark has none.
    pub(super) fn number<'t>(&self, text: &'t str) -> Cow<'t, str> {
        match self.decimal_mark {
            Some(mark) if text.contains(mark) && !text.contains('.') => text.replace(mark, ".").into(),
            Some(_) if text.contains('.') => "".into(),
            _ => text.into(),
        }
    }
}
