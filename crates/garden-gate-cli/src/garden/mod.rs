//! Hollowmere Garden: the invented botanic garden of the demo data, made from a fixed seed.
//!
//! The same scale always gives the same bytes. Every name and figure is made up.

mod people;
mod places;
mod plants;
mod random;
mod records;

use garden_gate::Value;
use garden_gate::source::Delimited;
use random::Random;
use std::io;
use std::path::Path;

/// A table as CSV text.
pub(crate) struct Sheet {
    pub(crate) name: &'static str,
    pub(crate) text: String,
}

impl Sheet {
    fn new(name: &'static str, header: &str) -> Self {
        Self { name, text: format!("{header}\n") }
    }

    /// Adds a record; `None` is an empty field.
    fn add(&mut self, fields: &[Option<String>]) {
        // Writing into a String cannot fail.
        let _ = Delimited::csv().write_row(fields.iter().map(Option::as_deref), &mut self.text);
    }
}

/// A field that is there.
#[expect(clippy::needless_pass_by_value, reason = "called with numbers and texts alike, mostly temporary")]
fn some(value: impl ToString) -> Option<String> {
    Some(value.to_string())
}

/// A number of hundredths as a decimal.
fn hundredths(value: i64) -> Option<String> {
    Some(format!("{}.{:02}", value / 100, value % 100))
}

/// How many of everything there are.
#[derive(Clone, Copy)]
struct Counts {
    scale: i64,
    beds: i64,
    gardeners: i64,
    taxa_families: i64,
    accessions: i64,
    plantings: i64,
    tasks: i64,
    sensors: i64,
    reading_days: i64,
}

impl Counts {
    fn at(scale: i64) -> Self {
        Self {
            scale,
            beds: 48 * scale,
            gardeners: 14 * scale,
            taxa_families: 12 * scale,
            accessions: 1_200 * scale,
            plantings: 2_600 * scale,
            tasks: 6_000 * scale,
            sensors: 36 * scale,
            reading_days: 60,
        }
    }
}

/// All tables of the garden, `scale` times as large as the committed data.
pub(crate) fn sheets(scale: u32) -> Vec<Sheet> {
    let counts = Counts::at(scale.into());
    let mut random = Random::new(0x6a72_6465_6e67_6174);
    let (taxon, ranks) = plants::taxon(&mut random, counts);
    let bed = places::bed(&mut random, counts);
    let path = places::path(&mut random, counts);
    let accession = plants::accession(&mut random, counts, &ranks);
    let planting = plants::planting(&mut random, counts);
    let gardener = people::gardener(&mut random, counts);
    let task = people::task(&mut random, counts);
    let (sensor, raw) = places::sensor(&mut random, counts);
    let reading = records::reading(&mut random, counts);
    let bay_booking = people::bay_booking(&mut random, counts);
    let seed_price = records::seed_price(&mut random, &ranks);
    let income = records::income(&mut random, counts);
    let expense = records::expense(&mut random, counts);
    vec![
        taxon,
        bed,
        path,
        accession,
        planting,
        gardener,
        task,
        sensor,
        raw,
        reading,
        bay_booking,
        seed_price,
        income,
        expense,
    ]
}

/// Writes all tables as CSV files into a folder, which is made if need be.
pub(crate) fn write(scale: u32, folder: &Path) -> io::Result<Vec<(&'static str, usize)>> {
    std::fs::create_dir_all(folder)?;
    let mut written = Vec::new();
    for sheet in sheets(scale) {
        crate::destination::write_whole(&folder.join(format!("{}.csv", sheet.name)), &sheet.text)?;
        written.push((sheet.name, sheet.text.lines().count() - 1));
    }
    Ok(written)
}

/// Days since 1970-01-01 as a date.
fn date(days: i64) -> String {
    Value::Date(i32::try_from(days).unwrap_or(i32::MAX)).to_string()
}

/// 2015-01-01, the day the garden's records begin.
const FIRST_DAY: i64 = 16_436;
/// 2024-12-31, the last day there is a record of.
const LAST_DAY: i64 = 20_088;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dates() {
        for (days, text) in
            [(0, "1970-01-01"), (FIRST_DAY, "2015-01-01"), (LAST_DAY, "2024-12-31"), (11_016, "2000-02-29")]
        {
            assert_eq!(date(days), text);
        }
    }

    #[test]
    fn committed_data_is_what_the_generator_makes() {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/data");
        let mut bytes = 0;
        for sheet in sheets(1) {
            let committed = std::fs::read_to_string(folder.join(format!("{}.csv", sheet.name))).unwrap_or_default();
            assert!(
                committed == sheet.text,
                "demo/data/{}.csv differs; write it with: garden-gate demo --to demo/data",
                sheet.name
            );
            bytes += committed.len();
        }
        assert!(bytes < 2_000_000, "{bytes} bytes");
    }

    #[test]
    fn larger_gardens_have_more_rows_and_one_busy_bed() {
        let rows = |scale: u32, name: &str| {
            sheets(scale).into_iter().find(|sheet| sheet.name == name).map_or(0, |sheet| sheet.text.lines().count() - 1)
        };
        assert_eq!(rows(3, "task"), 3 * rows(1, "task"));
        let task = sheets(1).into_iter().find(|sheet| sheet.name == "task").map(|sheet| sheet.text).unwrap_or_default();
        let busy = task.lines().filter(|line| line.split(',').nth(1) == Some("7")).count();
        assert!((2_500..3_200).contains(&busy), "{busy}");
    }
}
