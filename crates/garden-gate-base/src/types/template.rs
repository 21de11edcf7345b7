//! Templates of `CAST … FORMAT` (clause 9.52): YYYY to Y, RRRR, RR, MM (of our own: MON and MONTH for its English name), DD, DDD, HH24, HH12, MI, SS, FF1 to FF6, A.M., with marks
//! between them.

use super::{MICROS_PER_DAY, SqlType, date_parts, parse_date};

const MICROS_PER_SECOND: i64 = 1_000_000;

#[derive(Clone, Copy, Debug, PartialEq)]
enum TemplatePart {
    /// So many last digits of the year; the missing ones are those of the current year.
    Year(usize),
    /// Two digits of the year nearest to the current one, by the rule of its half century.
    RoundedYear,
    Month,
    /// The English name of the month, its first three letters or all of it.
    MonthName {
        whole: bool,
    },
    Day,
    DayOfYear,
    Hour24,
    Hour12,
    Minute,
    Second,
    SecondOfDay,
    Fraction(usize),
    Meridian,
    Mark(char),
}

const PARTS: &[(&str, TemplatePart)] = &[
    ("YYYY", TemplatePart::Year(4)),
    ("RRRR", TemplatePart::Year(4)),
    ("SSSSS", TemplatePart::SecondOfDay),
    ("HH24", TemplatePart::Hour24),
    ("HH12", TemplatePart::Hour12),
    ("DDD", TemplatePart::DayOfYear),
    ("A.M.", TemplatePart::Meridian),
    ("P.M.", TemplatePart::Meridian),
    ("YYY", TemplatePart::Year(3)),
    ("FF1", TemplatePart::Fraction(1)),
    ("FF2", TemplatePart::Fraction(2)),
    ("FF3", TemplatePart::Fraction(3)),
    ("FF4", TemplatePart::Fraction(4)),
    ("FF5", TemplatePart::Fraction(5)),
    ("FF6", TemplatePart::Fraction(6)),
    ("MONTH", TemplatePart::MonthName { whole: true }),
    ("MON", TemplatePart::MonthName { whole: false }),
    ("MM", TemplatePart::Month),
    ("DD", TemplatePart::Day),
    ("HH", TemplatePart::Hour12),
    ("MI", TemplatePart::Minute),
    ("SS", TemplatePart::Second),
    ("YY", TemplatePart::Year(2)),
    ("RR", TemplatePart::RoundedYear),
    ("Y", TemplatePart::Year(1)),
];

const MONTHS: [&str; 12] = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
];

/// How a day or time is written.
#[derive(Clone, Debug)]
pub struct Template(Vec<TemplatePart>);

impl Template {
    /// Reads a template; else says what is wrong with it.
    pub fn parse(template: &str) -> Result<Self, String> {
        parse(template).map(Self)
    }

    /// The template, of the usual ones, by which all of these texts are days, or days with a time: with the type that they have. Where days and
    /// months can't be told apart, the day comes first.
    pub fn fitting<'t>(texts: &(impl Iterator<Item = &'t str> + Clone)) -> Option<(&'static str, SqlType)> {
        const DAYS: [&str; 15] = [
            "YYYY-MM-DD",
            "YYYY/MM/DD",
            "YYYY.MM.DD",
            "DD.MM.YYYY",
            "DD/MM/YYYY",
            "DD-MM-YYYY",
            "MM/DD/YYYY",
            "MM-DD-YYYY",
            "YYYYMMDD",
            "DD MON YYYY",
            "DD-MON-YYYY",
            "MON DD YYYY",
            "MON DD, YYYY",
            "DD MONTH YYYY",
            "MONTH DD, YYYY",
        ];
        const MOMENTS: [&str; 9] = [
            "YYYY/MM/DD HH24:MI:SS",
            "YYYY-MM-DD HH24:MI",
            "YYYY/MM/DD HH24:MI",
            "DD.MM.YYYY HH24:MI:SS",
            "DD.MM.YYYY HH24:MI",
            "DD/MM/YYYY HH24:MI:SS",
            "DD/MM/YYYY HH24:MI",
            "MM/DD/YYYY HH24:MI:SS",
            "MM/DD/YYYY HH24:MI",
        ];
        texts.clone().next()?;
        let fits = |template: &&&str, sql_type| {
            Self::parse(template)
                .is_ok_and(|template| texts.clone().all(|text| template.read(text.trim(), sql_type, 2000).is_some()))
        };
        let day = DAYS.iter().find(|template| fits(template, SqlType::Date)).map(|template| (*template, SqlType::Date));
        day.or_else(|| {
            let found = MOMENTS.iter().find(|template| fits(template, SqlType::Timestamp));
            found.map(|template| (*template, SqlType::Timestamp))
        })
    }

    /// A day, time or timestamp, given as its lane, as text.
    pub fn write(&self, value: i64, sql_type: SqlType) -> String {
        write(value, sql_type, &self.0)
    }

    /// The lane of the value that a text means; short years are read beside `current_year`.
    pub fn read(&self, text: &str, target: SqlType, current_year: i64) -> Option<i64> {
        read(text, target, &self.0, current_year)
    }
}

fn parse(template: &str) -> Result<Vec<TemplatePart>, String> {
    let mut parts = Vec::new();
    let upper = template.to_ascii_uppercase();
    let mut rest = upper.as_str();
    while let Some(first) = rest.chars().next() {
        if let Some((word, part)) = PARTS.iter().find(|(word, _)| rest.starts_with(word)) {
            let is_year = |part: &TemplatePart| matches!(part, TemplatePart::Year(_) | TemplatePart::RoundedYear);
            if parts.contains(part) || is_year(part) && parts.iter().any(is_year) {
                return Err(format!("{word} appears twice in '{template}'"));
            }
            parts.push(*part);
            rest = &rest[word.len()..];
        } else if "-./,';: T".contains(first) {
            parts.push(TemplatePart::Mark(first));
            rest = &rest[first.len_utf8()..];
        } else {
            return Err(format!("'{rest}' begins with no part of a day or time (YYYY, MM, DD, HH24, MI, SS, …)"));
        }
    }
    Ok(parts)
}

/// The day and the time of day of a value.
fn split(value: i64, sql_type: SqlType) -> (i64, i64) {
    match sql_type {
        SqlType::Date => (value, 0),
        SqlType::Time | SqlType::TimeTz => (0, value),
        _ => (value.div_euclid(MICROS_PER_DAY), value.rem_euclid(MICROS_PER_DAY)),
    }
}

fn write(value: i64, sql_type: SqlType, parts: &[TemplatePart]) -> String {
    let (days, time) = split(value, sql_type);
    let (year, month, day) = date_parts(i32::try_from(days).unwrap_or(0));
    let first = parse_date(&format!("{year:04}-01-01")).map_or(days, i64::from);
    let seconds = time / MICROS_PER_SECOND;
    let hour = seconds / 3600;
    let mut text = String::new();
    for part in parts {
        text.push_str(&match part {
            TemplatePart::Year(digits) => format!("{year:04}")[4 - *digits..].to_owned(),
            TemplatePart::RoundedYear => format!("{:02}", year % 100),
            TemplatePart::Month => format!("{month:02}"),
            TemplatePart::MonthName { whole } => {
                let name = MONTHS.get(month as usize - 1).copied().unwrap_or_default();
                if *whole { name } else { &name[..name.len().min(3)] }.to_owned()
            }
            TemplatePart::Day => format!("{day:02}"),
            TemplatePart::DayOfYear => format!("{:03}", days - first + 1),
            TemplatePart::Hour24 => format!("{hour:02}"),
            TemplatePart::Hour12 => format!("{:02}", (hour + 11) % 12 + 1),
            TemplatePart::Minute => format!("{:02}", seconds / 60 % 60),
            TemplatePart::Second => format!("{:02}", seconds % 60),
            TemplatePart::SecondOfDay => format!("{seconds:05}"),
            TemplatePart::Fraction(digits) => format!("{:06}", time % MICROS_PER_SECOND)[..*digits].to_owned(),
            TemplatePart::Meridian => if hour < 12 { "A.M." } else { "P.M." }.to_owned(),
            TemplatePart::Mark(mark) => mark.to_string(),
        });
    }
    text
}

/// The value that a text means by the template; parts that are missing are those of midnight, January the 1st, year 1.
fn read(text: &str, target: SqlType, parts: &[TemplatePart], current: i64) -> Option<i64> {
    let (mut year, mut month, mut day, mut day_of_year) = (1, 1, 1, None);
    let (mut hour, mut minute, mut second, mut micros, mut late) = (0, 0, 0, 0, None);
    let mut rest = text;
    for part in parts {
        let before = rest.len();
        let mut number = |most: usize| -> Option<i64> {
            let length = rest.bytes().take(most).take_while(u8::is_ascii_digit).count();
            let value = rest[..length].parse().ok();
            rest = &rest[length..];
            value
        };
        match part {
            TemplatePart::Year(digits) => {
                let beyond = 10_i64.pow(u32::try_from(*digits).ok()?);
                year = number(*digits)? + if *digits < 4 { current - current % beyond } else { 0 };
            }
            TemplatePart::RoundedYear => year = rounded_year(number(2)?, current),
            TemplatePart::Month => month = number(2)?,
            TemplatePart::MonthName { whole } => {
                let at = MONTHS.iter().position(|name| {
                    let letters = if *whole { name } else { &name[..3] };
                    rest.get(..letters.len()).is_some_and(|start| start.eq_ignore_ascii_case(letters))
                })?;
                month = i64::try_from(at).ok()? + 1;
                rest = &rest[if *whole { MONTHS[at].len() } else { 3 }..];
            }
            TemplatePart::Day => day = number(2)?,
            TemplatePart::DayOfYear => day_of_year = Some(number(3)?),
            TemplatePart::Hour24 | TemplatePart::Hour12 => hour = number(2)?,
            TemplatePart::Minute => minute = number(2)?,
            TemplatePart::Second => second = number(2)?,
            TemplatePart::SecondOfDay => {
                let all = number(5)?;
                (hour, minute, second) = (all / 3600, all / 60 % 60, all % 60);
            }
            TemplatePart::Fraction(digits) => {
                number(*digits)?;
                let read = before - rest.len();
                let start = text.len() - before;
                micros = format!("{:0<6}", &text[start..start + read]).parse().ok()?;
            }
            TemplatePart::Meridian => {
                let word = rest.get(..4)?.to_ascii_uppercase();
                late = Some(match word.as_str() {
                    "A.M." => false,
                    "P.M." => true,
                    _ => return None,
                });
                rest = &rest[4..];
            }
            TemplatePart::Mark(mark) => rest = rest.strip_prefix(*mark)?,
        }
    }
    if let Some(late) = late {
        if !(1..=12).contains(&hour) {
            return None;
        }
        hour = hour % 12 + if late { 12 } else { 0 };
    }
    let in_day = (0..24).contains(&hour) && (0..60).contains(&minute) && (0..60).contains(&second);
    if !rest.is_empty() || !in_day {
        return None;
    }
    let date = match day_of_year {
        Some(number) => {
            let first = |year: i64| parse_date(&format!("{year:04}-01-01")).map(i64::from);
            let start = first(year)?;
            let days = first(year + 1).map_or(365, |next| next - start);
            Some(start + number - 1).filter(|_| (1..=days).contains(&number))?
        }
        None => i64::from(parse_date(&format!("{year:04}-{month:02}-{day:02}"))?),
    };
    let time = ((hour * 60 + minute) * 60 + second) * MICROS_PER_SECOND + micros;
    Some(match target {
        SqlType::Date => date,
        SqlType::Time | SqlType::TimeTz => time,
        _ => date * MICROS_PER_DAY + time,
    })
}

/// The year of two digits by the current year: of the century before, this, or the next, as both lie in the first or second half.
fn rounded_year(digits: i64, current: i64) -> i64 {
    let century = current - current % 100;
    let year = century + digits;
    match (current % 100 < 50, digits < 50) {
        (true, false) => year - 100,
        (false, true) => year + 100,
        _ => year,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn templates_read_what_they_write() {
        let day = i64::from(parse_date("2024-02-29").unwrap());
        let moment = day * MICROS_PER_DAY + (13 * 3600 + 5 * 60 + 9) * MICROS_PER_SECOND + 250_000;
        for (template, text) in [
            ("YYYY-MM-DD HH24:MI:SS.FF2", "2024-02-29 13:05:09.25"),
            ("DD.MM.YYYY HH12:MI:SS.FF3 A.M.", "29.02.2024 01:05:09.250 P.M."),
            ("YYYY-DDD SSSSS.FF6", "2024-060 47109.250000"),
            ("MON DD, YYYY SSSSS.FF6", "Feb 29, 2024 47109.250000"),
            ("DD MONTH YYYY SSSSS.FF6", "29 February 2024 47109.250000"),
        ] {
            let parts = parse(template).unwrap();
            assert_eq!(write(moment, SqlType::Timestamp, &parts), text, "{template}");
            assert_eq!(read(text, SqlType::Timestamp, &parts, 2026), Some(moment), "{template}");
        }
        assert_eq!(read("31/02/2024", SqlType::Date, &parse("DD/MM/YYYY").unwrap(), 2026), None);
        for (template, text, current, year) in [
            ("YY", "24", 2026, 2024),
            ("YY", "99", 2026, 2099),
            ("YYY", "987", 2026, 2987),
            ("Y", "9", 2026, 2029),
            ("RR", "99", 2026, 1999),
            ("RR", "49", 2026, 2049),
            ("RR", "07", 1999, 2007),
            ("RR", "50", 1999, 1950),
            ("RRRR", "0812", 2026, 812),
        ] {
            let parts = parse(template).unwrap();
            let first = parse_date(&format!("{year:04}-01-01")).map(i64::from);
            assert_eq!(read(text, SqlType::Date, &parts, current), first, "{template} in {current}");
            assert_eq!(write(first.unwrap(), SqlType::Date, &parts), text, "{template}");
        }
        for (texts, wanted) in [
            (&["2012/01/01", "2012/12/31"][..], Some("YYYY/MM/DD")),
            (&["Jan 1 2000", "dec 31 1999"], Some("MON DD YYYY")),
            (&["01.02.2012"], Some("DD.MM.YYYY")),
            (&["01/02/2012", "02/13/2012"], Some("MM/DD/YYYY")),
            (&["31/12/2012 23:59"], Some("DD/MM/YYYY HH24:MI")),
            (&["1 May 2001", "3 June 2001"], Some("DD MONTH YYYY")),
            (&["yes"], None),
            (&[], None),
        ] {
            assert_eq!(Template::fitting(&texts.iter().copied()).map(|(template, _)| template), wanted, "{texts:?}");
        }
        assert!(parse("YY RR").is_err());
        assert!(parse("YYYY YYYY").is_err() && parse("day").is_err());
    }
}
