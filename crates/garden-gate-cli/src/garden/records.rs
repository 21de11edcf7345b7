//! What is written down: sensor readings, prices, money.

use super::plants::Ranks;
use super::{Counts, FIRST_DAY, LAST_DAY, Sheet, date, hundredths, random::Random, some};

fn tenths(value: i64) -> Option<String> {
    let sign = if value < 0 { "-" } else { "" };
    Some(format!("{sign}{}.{}", value.abs() / 10, value.abs() % 10))
}

/// Six readings a sensor and day; a failing probe gives no moisture, and sensor 5 fails often.
pub(super) fn reading(random: &mut Random, counts: Counts) -> Sheet {
    let mut sheet = Sheet::new("reading", "sensor_id,taken,moisture,temperature");
    for day in LAST_DAY + 1 - counts.reading_days..=LAST_DAY {
        for hour in [0, 4, 8, 12, 16, 20] {
            for sensor in 1..=counts.sensors {
                let fails = random.chance(if sensor == 5 { 60 } else { 3 });
                let moisture = if fails { None } else { tenths(random.within(80, 620)) };
                let warmth = 40 + (14 - (hour - 14_i64).abs()) * 8 + random.within(-60, 60);
                let minute = sensor % 60;
                sheet.add(&[
                    some(sensor),
                    some(format!("{} {hour:02}:{minute:02}:00", date(day))),
                    moisture,
                    tenths(warmth),
                ]);
            }
        }
    }
    sheet
}

/// Prices of seed, each from its day on.
pub(super) fn seed_price(random: &mut Random, ranks: &Ranks) -> Sheet {
    let mut sheet = Sheet::new("seed_price", "taxon_id,valid_from,price");
    for taxon in ranks.growable.iter().filter(|taxon| **taxon % 2 == 0) {
        let mut day = FIRST_DAY + random.within(0, 900);
        let mut price = random.skewed(150, 1_900);
        for _ in 0..random.within(1, 6) {
            sheet.add(&[some(taxon), some(date(day)), hundredths(price)]);
            day += random.within(60, 700);
            price += random.within(-40, 120).max(50 - price);
        }
    }
    sheet
}

/// The income.
pub(super) fn income(random: &mut Random, counts: Counts) -> Sheet {
    let mut sheet = Sheet::new("income", "income_id,day,source,amount,bed_id");
    for id in 1..=900 * counts.scale {
        let source =
            if random.chance(55) { "tickets" } else { random.pick(&["seed sale", "sponsorship", "courses", "cafe"]) };
        let bed = (source == "sponsorship").then(|| random.within(1, counts.beds + 1).to_string());
        let amount = if random.chance(3) { None } else { hundredths(random.skewed(400, 95_000)) };
        sheet.add(&[some(id), some(date(random.within(LAST_DAY - 730, LAST_DAY + 1))), some(source), amount, bed]);
    }
    sheet
}

/// The expenses.
pub(super) fn expense(random: &mut Random, counts: Counts) -> Sheet {
    let mut sheet = Sheet::new("expense", "expense_id,day,category,amount,supplier");
    for id in 1..=700 * counts.scale {
        let category = random.pick(&["compost", "tools", "wages", "water", "glass", "seed"]);
        let supplier = if random.chance(30) {
            None
        } else {
            some(random.pick(&["Marl & Sons", "Otterby Glass", "Deepwell, Ltd.", "Thornley Tools"]))
        };
        sheet.add(&[
            some(id),
            some(date(random.within(LAST_DAY - 730, LAST_DAY + 1))),
            some(category),
            hundredths(random.skewed(900, 240_000)),
            supplier,
        ]);
    }
    sheet
}
