//! What grows: names, accessions, plantings.

use super::{Counts, FIRST_DAY, LAST_DAY, Sheet, date, random::Random, some};
use std::collections::HashSet;

const STEMS: &[&str] = &[
    "vel", "mar", "tor", "lin", "bra", "cor", "sil", "ner", "pal", "dro", "fen", "gal", "hes", "ilm", "kar", "lun",
    "mel", "nor", "ost", "quil",
];
const MIDDLES: &[&str] = &["a", "e", "i", "o", "an", "er", "il", "on", "ar", "em"];
const GENUS_ENDS: &[&str] = &["dia", "thus", "lia", "mum", "ria", "phora", "nia", "stis"];
const SPECIES_ENDS: &[&str] = &["ensis", "ata", "osa", "iflora", "ica", "oides", "ula", "escens"];
const AUTHORS: &[&str] = &["Ashgrove", "Thornley", "Marrick", "Wickstead", "Pellow", "Underhay"];
const CULTIVARS: &[&str] = &[
    "Morning Mist",
    "Old Gate",
    "Copper Lantern",
    "Miss Pellow",
    "Snowfold",
    "Long Evening",
    "Hollowmere Blue",
    "Quiet Hour",
];
const COUNTRIES: &[&str] = &["Norway", "Chile", "Japan", "Portugal", "Nepal", "New Zealand", "Canada", "Georgia"];
const DONORS: &[&str] = &[
    "Brackwater Seed Exchange",
    "Otterby Botanic Garden",
    "E. Marrick, private garden",
    "The \"Green Door\" nursery",
    "Collected in the wild",
];

/// The ids of the taxa that can be grown: species and varieties.
pub(super) struct Ranks {
    pub(super) growable: Vec<i64>,
}

fn capital(word: &str) -> String {
    let mut letters = word.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}

fn word(random: &mut Random, ends: &[&str]) -> String {
    format!("{}{}{}", random.pick(STEMS), random.pick(MIDDLES), random.pick(ends))
}

fn fresh(random: &mut Random, ends: &[&str], used: &mut HashSet<String>) -> String {
    loop {
        let mut name = word(random, ends);
        if used.contains(&name) {
            // Larger gardens run out of short names.
            name = format!("{}{name}", random.pick(STEMS));
        }
        if used.insert(name.clone()) {
            return name;
        }
    }
}

/// The taxa as a tree, and which of them grow in beds.
pub(super) fn taxon(random: &mut Random, counts: Counts) -> (Sheet, Ranks) {
    let mut sheet = Sheet::new("taxon", "taxon_id,parent_id,rank,name,author");
    let mut growable = Vec::new();
    let mut used = HashSet::new();
    let mut next = 0;
    let mut add = |parent: Option<i64>, rank: &str, name: &str, author: Option<String>| {
        next += 1;
        sheet.add(&[some(next), parent.map(|parent| parent.to_string()), some(rank), some(name), author]);
        next
    };
    for _ in 0..counts.taxa_families {
        let family_name = format!("{}aceae", capital(&fresh(random, &["", "l", "n", "r"], &mut used)));
        let family = add(None, "family", &family_name, None);
        for _ in 0..random.within(2, 5) {
            let genus_name = capital(&fresh(random, GENUS_ENDS, &mut used));
            let genus =
                add(Some(family), "genus", &genus_name, random.chance(60).then(|| (*random.pick(AUTHORS)).to_owned()));
            for _ in 0..random.within(3, 9) {
                let species_name = format!("{genus_name} {}", word(random, SPECIES_ENDS));
                let author = random.chance(70).then(|| (*random.pick(AUTHORS)).to_owned());
                let species = add(Some(genus), "species", &species_name, author);
                growable.push(species);
                for _ in 0..random.skewed(0, 4) {
                    let variety = format!("{species_name} '{}'", random.pick(CULTIVARS));
                    growable.push(add(Some(species), "variety", &variety, None));
                }
            }
        }
    }
    (sheet, Ranks { growable })
}

/// The accessions: plants as they came.
pub(super) fn accession(random: &mut Random, counts: Counts, ranks: &Ranks) -> Sheet {
    let mut sheet = Sheet::new("accession", "accession_no,taxon_id,received,donor,country,quantity,provenance");
    for number in 1..=counts.accessions {
        let wild = random.chance(30);
        let donor = if random.chance(45) { None } else { some(random.pick(DONORS)) };
        let country = if random.chance(if wild { 10 } else { 55 }) { None } else { some(random.pick(COUNTRIES)) };
        sheet.add(&[
            some(format!("{number:05}")),
            some(random.pick(&ranks.growable)),
            some(date(random.within(FIRST_DAY, LAST_DAY))),
            donor,
            country,
            if random.chance(8) { None } else { some(random.skewed(1, 60)) },
            some(if wild { "wild" } else { "cultivated" }),
        ]);
    }
    sheet
}

/// The plantings: accessions in beds.
pub(super) fn planting(random: &mut Random, counts: Counts) -> Sheet {
    let mut sheet = Sheet::new("planting", "planting_id,accession_no,bed_id,planted,plants,removed");
    for number in 1..=counts.plantings {
        let planted = random.within(FIRST_DAY, LAST_DAY - 30);
        let removed = random.chance(35).then(|| date(random.within(planted + 10, LAST_DAY + 1)));
        sheet.add(&[
            some(number),
            some(format!("{:05}", random.skewed(1, counts.accessions + 1))),
            some(random.within(1, counts.beds + 1)),
            some(date(planted)),
            some(random.skewed(1, 25)),
            removed,
        ]);
    }
    sheet
}
