//! Who works: gardeners, their tasks, and the greenhouse bays they book.

use super::{Counts, FIRST_DAY, LAST_DAY, Sheet, date, hundredths, random::Random, some};

const GIVEN: &[&str] = &[
    "Ada", "Bram", "Cleo", "Dag", "Edda", "Finn", "Greta", "Hal", "Ines", "Joss", "Kaja", "Lew", "Mira", "Nils", "Oda",
    "Pim",
];
const FAMILY: &[&str] =
    &["Ashgrove", "Birkett", "Coombe", "Dunnock", "Elmsworth", "Fallow", "Garth", "Hazelby", "Ilmer", "Juniper"];
const KINDS: &[&str] = &["weeding", "pruning", "watering", "mulching", "labelling", "pest control"];
const NOTES: &[&str] =
    &["slugs again", "needs two people", "finished early, rain", "label missing", "see bed 7, same problem"];

/// The bed that takes nearly half of all work.
const BUSY_BED: i64 = 7;

/// The gardeners; most have a mentor.
pub(super) fn gardener(random: &mut Random, counts: Counts) -> Sheet {
    let mut sheet = Sheet::new("gardener", "gardener_id,name,mentor_id,hired,hourly_rate");
    for id in 1..=counts.gardeners {
        let mentor = (id > 3).then(|| random.within(1, id).to_string());
        sheet.add(&[
            some(id),
            some(format!("{} {}", random.pick(GIVEN), random.pick(FAMILY))),
            mentor,
            some(date(FIRST_DAY - 4_000 + id * 500 / counts.scale)),
            hundredths(random.within(1_450, 3_100)),
        ]);
    }
    sheet
}

/// The tasks: nearly half of them in one bed.
pub(super) fn task(random: &mut Random, counts: Counts) -> Sheet {
    let mut sheet = Sheet::new("task", "task_id,bed_id,gardener_id,day,kind,hours,note");
    for id in 1..=counts.tasks {
        let bed = if random.chance(47) { BUSY_BED } else { random.within(1, counts.beds + 1) };
        let gardener = if random.chance(6) { None } else { some(random.skewed(1, counts.gardeners + 1)) };
        let hours = if random.chance(4) { None } else { hundredths(random.skewed(1, 33) * 25) };
        sheet.add(&[
            some(id),
            some(bed),
            gardener,
            some(date(random.within(LAST_DAY - 1_460, LAST_DAY + 1))),
            some(if random.chance(40) { "weeding" } else { random.pick(KINDS) }),
            hours,
            if random.chance(7) { some(random.pick(NOTES)) } else { None },
        ]);
    }
    sheet
}

/// A booking ends on the day before `ends`; some bays are double-booked.
pub(super) fn bay_booking(random: &mut Random, counts: Counts) -> Sheet {
    let mut sheet = Sheet::new("bay_booking", "booking_id,bay,gardener_id,starts,ends,purpose");
    for id in 1..=120 * counts.scale {
        let starts = random.within(LAST_DAY - 700, LAST_DAY - 20);
        let ends = if random.chance(5) { None } else { some(date(starts + random.within(3, 40))) };
        let purpose = random.pick(&["seedlings", "cuttings", "quarantine", "show plants"]);
        let bay = format!("Bay {}", random.within(1, 9));
        sheet.add(&[
            some(id),
            some(bay),
            some(random.within(1, counts.gardeners + 1)),
            some(date(starts)),
            ends,
            some(purpose),
        ]);
    }
    sheet
}
