//! Queries drawn by a seed over the tables of the bench: filters that go together or not, joins of two to eight tables, ranges, nearest rows.

/// A query, and the names of its tables.
pub(crate) type Query = (String, Vec<&'static str>);

/// The numbers of a generator (Steele, Lea & Flood, OOPSLA 2014).
struct Draw(u64);

impl Draw {
    fn below(&mut self, limit: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut bits = self.0;
        bits = (bits ^ (bits >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        bits = (bits ^ (bits >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (bits ^ (bits >> 31)) % limit
    }

    fn kind(&mut self) -> &'static str {
        ["watering", "weeding", "grafting"][usize::try_from(self.below(3)).unwrap_or(0)]
    }

    /// A condition on chores.
    fn of_chores(&mut self, name: &str) -> String {
        match self.below(7) {
            0 => format!("{name}.bed = {}", 1 + self.below(40)),
            1 => format!("{name}.bed IN ({}, {}, {})", 1 + self.below(9), 1 + self.below(2000), 1 + self.below(2000)),
            2 => format!("{name}.day = {}", self.below(1100)),
            3 => {
                let from = self.below(1000);
                format!("{name}.day BETWEEN {from} AND {}", from + self.below(200))
            }
            4 => format!("{name}.kind = '{}'", self.kind()),
            5 => format!("{name}.kind = '{}' AND {name}.bed = {}", self.kind(), 1 + self.below(3)),
            _ => format!("{name}.hours > {}", self.below(8)),
        }
    }

    fn of_beds(&mut self, name: &str) -> String {
        match self.below(3) {
            0 => format!("{name}.sun = 'shade'"),
            1 => format!("{name}.area < {}", 1 + self.below(100)),
            _ => format!("{name}.id < {}", 1 + self.below(300)),
        }
    }

    fn query(&mut self) -> Query {
        let (chores, more, beds) = (self.of_chores("c"), self.of_chores("c"), self.of_beds("b"));
        let tool = self.below(97);
        match self.below(11) {
            0 => (format!("SELECT SUM(c.hours) FROM chore c WHERE {chores} AND {more}"), vec!["c"]),
            1 => (
                format!("SELECT COUNT(*) FROM chore c JOIN bed b ON c.bed = b.id WHERE {chores} AND {beds}"),
                vec!["c", "b"],
            ),
            2 => (
                format!(
                    "SELECT SUM(l.fee) FROM chore c JOIN loan l ON l.chore = c.id WHERE {chores} AND l.tool < {tool}"
                ),
                vec!["c", "l"],
            ),
            3 => (
                format!(
                    "SELECT SUM(l.fee) FROM bed b JOIN chore c ON c.bed = b.id JOIN loan l ON l.chore = c.id WHERE {chores} AND {beds}"
                ),
                vec!["b", "c", "l"],
            ),
            4 => (
                format!(
                    "SELECT COUNT(*) FROM bed b WHERE {beds} AND EXISTS (SELECT 1 FROM chore c WHERE c.bed = b.id AND {chores})"
                ),
                vec!["c", "b"],
            ),
            5 => (
                format!("SELECT COUNT(*) FROM bed b WHERE b.id NOT IN (SELECT c.bed FROM chore c WHERE {chores})"),
                vec!["c", "b"],
            ),
            6 => (
                format!(
                    "SELECT COUNT(*) FROM chore c JOIN season s ON c.day >= s.since AND c.day < s.until WHERE {chores}"
                ),
                vec!["c", "s"],
            ),
            7 => (
                format!(
                    "SELECT COUNT(*) FROM season s LEFT JOIN season t ON s.since < t.until AND t.since < s.until WHERE s.since < {}",
                    self.below(1000)
                ),
                vec!["s", "t"],
            ),
            8 => (
                format!(
                    "SELECT SUM(p.amount) FROM loan l JOIN chore c ON l.chore = c.id, LATERAL (SELECT amount FROM price WHERE price.tool = l.tool \
                     AND price.since <= c.day ORDER BY since DESC FETCH FIRST 1 ROW ONLY) AS p WHERE {chores}"
                ),
                vec!["l", "c"],
            ),
            9 => {
                let depth = 2 + self.below(6);
                let joins: Vec<String> =
                    (1..depth).map(|at| format!(" JOIN gardener g{at} ON g{}.mentor = g{at}.id", at - 1)).collect();
                (
                    format!(
                        "SELECT COUNT(*) FROM chore c JOIN gardener g0 ON c.gardener = g0.id{} WHERE {chores}",
                        joins.concat()
                    ),
                    vec!["c", "g0"],
                )
            }
            _ => (
                format!(
                    "SELECT c.bed, COUNT(*) FROM chore c JOIN bed b ON c.bed = b.id LEFT JOIN loan l ON l.chore = c.id WHERE {chores} AND {beds} GROUP BY c.bed"
                ),
                vec!["c", "b", "l"],
            ),
        }
    }
}

/// So many queries.
pub(crate) fn queries(count: usize, seed: u64) -> Vec<Query> {
    let mut draw = Draw(seed);
    (0..count).map(|_| draw.query()).collect()
}
