//! Where it grows: beds, the paths between them, sensors.

use super::{Counts, FIRST_DAY, LAST_DAY, Sheet, date, hundredths, random::Random, some};

const FIRST_WORDS: &[&str] = &[
    "Fern", "Heath", "Scree", "Bog", "Rose", "Meadow", "Slate", "Willow", "Moss", "Lime", "Dry", "Lower", "Upper",
    "Old", "North", "Quarry",
];
const SECOND_WORDS: &[&str] = &["gully", "walk", "terrace", "border", "bank", "hollow", "court", "edge"];
const SOILS: &[&str] = &["loam", "clay", "peat", "gravel", "chalk"];

/// The beds.
pub(super) fn bed(random: &mut Random, counts: Counts) -> Sheet {
    let mut sheet = Sheet::new("bed", "bed_id,name,sun,soil,area_m2,ph,opened");
    for id in 1..=counts.beds {
        let name = format!("{} {}", random.pick(FIRST_WORDS), random.pick(SECOND_WORDS));
        // Most beds lie in the sun; of one in six nobody has written it down.
        let sun = match random.within(0, 12) {
            0..=4 => Some("full sun"),
            5..=6 => Some("half shade"),
            7..=9 => Some("shade"),
            _ => None,
        };
        let ph =
            if random.chance(40) { None } else { some(format!("{}.{}", random.within(4, 8), random.within(0, 10))) };
        sheet.add(&[
            some(id),
            some(name),
            sun.map(str::to_owned),
            some(random.pick(SOILS)),
            hundredths(random.within(450, 26_000)),
            ph,
            some(date(FIRST_DAY - random.within(0, 20_000))),
        ]);
    }
    sheet
}

/// Walks lead on from bed to bed, with short cuts back: there are loops.
pub(super) fn path(random: &mut Random, counts: Counts) -> Sheet {
    let mut sheet = Sheet::new("path", "from_bed,to_bed,length_m,surface");
    let mut add = |random: &mut Random, from: i64, to: i64| {
        let surface = random.pick(&["grass", "gravel", "boards", "paving"]);
        sheet.add(&[
            some(from),
            some(to),
            some(format!("{}.{}", random.within(4, 120), random.within(0, 10))),
            some(surface),
        ]);
    };
    for bed in 1..counts.beds {
        add(random, bed, bed + 1);
        if random.chance(45) {
            let back = random.within(1, bed + 1);
            add(random, bed + 1, back);
        }
        if random.chance(30) {
            let to = random.within(1, counts.beds + 1);
            if to != bed {
                add(random, bed, to);
            }
        }
    }
    sheet
}

/// Sensors as they are kept, and the raw file they came from, in which some addresses are no addresses.
pub(super) fn sensor(random: &mut Random, counts: Counts) -> (Sheet, Sheet) {
    let mut kept = Sheet::new("sensor", "sensor_id,bed_id,address,installed");
    let mut raw = Sheet::new("sensor_raw", "sensor_id,bed_id,address,installed");
    for id in 1..=counts.sensors {
        let address = if random.chance(50) {
            format!("10.4.{}.{}", id / 250, id % 250 + 1)
        } else {
            format!("fd00:4a::{:x}:{id:x}", random.within(1, 4_000))
        };
        let spoilt = match random.within(0, 12) {
            0 => format!("10.4.{}.{}", random.within(256, 999), id % 250),
            1 => "unknown".to_owned(),
            _ => address.clone(),
        };
        let bed = random.within(1, counts.beds + 1);
        let installed = date(random.within(LAST_DAY - 1_500, LAST_DAY - 100));
        kept.add(&[some(id), some(bed), some(address), some(&installed)]);
        raw.add(&[some(id), some(bed), some(spoilt), some(&installed)]);
    }
    (kept, raw)
}
