//! Which sets of inputs are worth a look: those that conditions hold together.

use super::JoinSearch;
use super::graph::{Edge, Tables, bits};

/// Up to here sets are joined that no condition ties together; past that only where they have few rows.
const MOST_CROSSED_TABLES: usize = 7;
/// Up to here equalities that nobody wrote lead to orders of their own.
const MOST_IMPLIED_TABLES: usize = 8;

/// Which inputs conditions tie to one another.
pub(super) struct Connections {
    /// For each input those tied to it.
    neighbours: Vec<Tables>,
    /// Whether sets that nothing ties are joined all the same.
    all: bool,
}

impl Connections {
    /// How the inputs of a search are tied to one another.
    pub(super) fn of(search: &JoinSearch<'_>, all: Tables) -> Self {
        let count = search.inputs.len();
        let mut neighbours: Vec<Tables> = vec![0; count];
        let inputs = search.inputs.iter().enumerate();
        let needed = inputs.filter_map(|(at, input)| input.side.as_ref().map(|side| side.needs | 1 << at));
        // Equalities that follow from others tie all tables of a star to one another: of many, what was written is enough.
        let counts = |edge: &&Edge| count <= MOST_IMPLIED_TABLES || !edge.condition.is_implied();
        for tied in search.conditions.edges().iter().filter(counts).map(|edge| edge.tables).chain(needed) {
            bits(tied).for_each(|at| neighbours[at] |= tied);
        }
        let mut connections = Self { neighbours, all: false };
        // Few inputs are joined in any order; so are those that conditions do not tie together, or that a guide names.
        connections.all =
            count <= MOST_CROSSED_TABLES || !search.guide.directives.is_empty() || connections.reached(all) != all;
        connections
    }

    /// What conditions within a set lead to from its first input.
    fn reached(&self, tables: Tables) -> Tables {
        let mut found = tables & tables.wrapping_neg();
        loop {
            let next = bits(found).fold(found, |set, at| set | self.neighbours[at] & tables);
            if next == found {
                return found;
            }
            found = next;
        }
    }

    /// Whether orders in which a set of inputs is joined by itself are looked at.
    pub(super) fn is_worthwhile(&self, tables: Tables) -> bool {
        self.all || self.reached(tables) == tables
    }
}
