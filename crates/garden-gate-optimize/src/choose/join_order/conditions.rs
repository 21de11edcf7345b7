//! The conditions of a search, in the form in which the search asks for them: it does so for each set of tables, and for each way to split
//! one in two, so that what does not depend on the set is computed once.

use super::super::key_shape::KeyShape;
use super::graph::{Edge, Tables, bits};

/// Classes of equal columns that a set of bits has room for; those past that are no classes, each of their equalities counts.
const MOST_CLASSES: usize = 64;

/// The share of pairs of rows of two tables that fulfil several equalities whose columns were looked at together.
#[derive(Clone, Copy, Debug)]
pub(in super::super) struct JointShare {
    pub(in super::super) tables: Tables,
    pub(in super::super) share: f64,
}

/// The conditions between inputs.
pub(in super::super) struct Conditions {
    edges: Vec<Edge>,
    links: Vec<Link>,
    /// The numbers of the conditions in the order in which they count towards the rows of a set (see [`Conditions::share`]).
    order: Vec<usize>,
    joint: Vec<JointShare>,
    /// For each input its rows before any condition.
    sizes: Vec<f64>,
}

/// What the search needs of a condition at each step.
#[derive(Clone, Copy)]
struct Link {
    tables: Tables,
    sides: Option<(Tables, Tables)>,
    bounds: Option<(Tables, Tables)>,
    share: f64,
    /// The bit of its class; 0 for none.
    class: u64,
    /// Whether it is an equality that a key of the two tables may go by.
    is_pair: bool,
    /// Whether it compares whole numbers.
    is_whole: bool,
}

/// What ties two sets of tables.
#[derive(Clone, Copy, Debug)]
pub(super) struct Tie {
    /// The equalities.
    pub(super) keys: KeyShape,
    /// The share of pairs whose keys are equal, and of those that fulfil the inequalities as well.
    pub(super) keyed: f64,
    pub(super) ranged: f64,
    /// The inequalities that a range join goes by.
    pub(super) bounds: KeyShape,
    /// Conditions that neither goes by.
    pub(super) others: usize,
}

impl Tie {
    /// How many conditions there are.
    pub(super) fn conditions(&self) -> usize {
        self.keys.count + self.bounds.count + self.others
    }
}

impl Link {
    fn of(edge: &Edge) -> Self {
        let class = edge.class.filter(|class| *class < MOST_CLASSES).map_or(0, |class| 1 << class);
        let is_pair = edge.sides.is_some() && edge.tables.count_ones() == 2 && !edge.of_result;
        let is_whole = edge.compared().sql_type().is_whole();
        Self {
            tables: edge.tables,
            sides: edge.sides,
            bounds: edge.bounds,
            share: edge.share,
            class,
            is_pair,
            is_whole,
        }
    }

    fn lies_within(&self, tables: Tables) -> bool {
        self.tables & !tables == 0
    }

    fn joins(&self, left: Tables, right: Tables) -> bool {
        self.lies_within(left | right) && self.tables & left != 0 && self.tables & right != 0
    }
}

impl Conditions {
    /// The conditions between inputs of these sizes. O(conditions²).
    pub(in super::super) fn of(edges: Vec<Edge>, joint: Vec<JointShare>, sizes: Vec<f64>) -> Self {
        let links: Vec<Link> = edges.iter().map(Link::of).collect();
        // Two tables that several classes tie are tied by all of these: together they may be a key.
        let is_one_of_several = |link: &Link| {
            let other =
                |other: &Link| other.tables == link.tables && other.sides.is_some() && other.class != link.class;
            link.class != 0 && link.sides.is_some() && links.iter().any(other)
        };
        let several: Vec<bool> = links.iter().map(is_one_of_several).collect();
        let mut order: Vec<usize> = (0..links.len()).collect();
        order.sort_by(|a, b| several[*b].cmp(&several[*a]).then(links[*b].share.total_cmp(&links[*a].share)));
        Self { edges, links, order, joint, sizes }
    }

    /// The conditions in the order in which they were found.
    pub(in super::super) fn edges(&self) -> &[Edge] {
        &self.edges
    }

    /// The share of pairs that fulfil a condition by itself.
    pub(super) fn share_of_edge(&self, number: usize) -> f64 {
        self.links[number].share
    }

    /// Rows of an input before any condition.
    pub(in super::super) fn size(&self, at: usize) -> f64 {
        self.sizes[at]
    }

    /// The conditions that become testable when `left` and `right` are joined, by their numbers; of equalities that say the same only the
    /// first.
    fn joining(&self, left: Tables, right: Tables) -> impl Iterator<Item = (usize, &Link)> {
        let mut classes = 0_u64;
        self.links.iter().enumerate().filter(move |(_, link)| {
            if !link.joins(left, right) || link.class & classes != 0 {
                return false;
            }
            classes |= link.class;
            true
        })
    }

    /// The conditions that become testable when two sets are joined (see [`JoinSearch::between`](super::JoinSearch::between)).
    pub(in super::super) fn between(&self, left: Tables, right: Tables) -> impl Iterator<Item = &Edge> {
        self.joining(left, right).map(|(number, _)| &self.edges[number])
    }

    /// What ties two sets. O(conditions).
    pub(super) fn tie(&self, left: Tables, right: Tables) -> Tie {
        let mut tie =
            Tie { keys: KeyShape::default(), keyed: 1.0, ranged: 1.0, bounds: KeyShape::default(), others: 0 };
        let mut whole = [true; 2];
        for (_, link) in self.joining(left, right) {
            if lies_between(link.sides, left, right) {
                tie.keys.count += 1;
                tie.keyed *= link.share;
                tie.ranged *= link.share;
                whole[0] &= link.is_whole;
            } else if tie.bounds.count < 2 && lies_between(link.bounds, left, right) {
                tie.bounds.count += 1;
                tie.ranged *= link.share;
                whole[1] &= link.is_whole;
            } else {
                tie.others += 1;
            }
        }
        tie.keys.is_number = tie.keys.count == 1 && whole[0];
        tie.bounds.is_number = whole[1];
        tie
    }

    /// The share of all combinations of rows of these tables that fulfil every condition among them.
    ///
    /// Of the equalities of a class as many count as are needed to tie its tables together, those that keep most rows first: the others
    /// follow. Several equalities between two tables are taken for a key of the smaller one at most: independent columns would leave hardly
    /// a pair.
    pub(in super::super) fn share(&self, tables: Tables) -> f64 {
        let within = self.order.iter().map(|number| &self.links[*number]).filter(|link| link.lies_within(tables));
        // For each class the sets of its tables that are tied already.
        let mut tied: Vec<(u64, Tables)> = Vec::new();
        let mut share = 1.0;
        let mut pairs: Vec<PairShare> = Vec::new();
        for link in within {
            if link.class != 0 && !takes_in(&mut tied, link) {
                continue;
            }
            match pairs.iter_mut().find(|known| link.is_pair && known.tables == link.tables) {
                Some(known) => {
                    known.conditions += 1;
                    known.product *= link.share;
                }
                None if link.is_pair => {
                    pairs.push(PairShare { tables: link.tables, conditions: 1, product: link.share });
                }
                None => share *= link.share,
            }
        }
        share * pairs.iter().map(|pair| self.share_of_pair(pair)).product::<f64>()
    }

    fn share_of_pair(&self, pair: &PairShare) -> f64 {
        if pair.conditions == 1 {
            return pair.product;
        }
        match self.joint.iter().find(|known| known.tables == pair.tables) {
            Some(known) => known.share,
            None => {
                let smaller = bits(pair.tables).map(|at| self.sizes[at]).fold(f64::MAX, f64::min).max(1.0);
                pair.product.max(1.0 / smaller)
            }
        }
    }
}

/// The equalities between two tables.
struct PairShare {
    tables: Tables,
    conditions: usize,
    product: f64,
}

/// Ties the tables of an equality to those of its class; `false` where they are tied already.
fn takes_in(tied: &mut Vec<(u64, Tables)>, link: &Link) -> bool {
    let touches = |&&(class, set): &&(u64, Tables)| class == link.class && set & link.tables != 0;
    if tied.iter().filter(touches).any(|(_, set)| link.lies_within(*set)) {
        return false;
    }
    let joined = tied.iter().filter(touches).fold(link.tables, |all, (_, set)| all | set);
    tied.retain(|(class, set)| *class != link.class || set & link.tables == 0);
    tied.push((link.class, joined));
    true
}

/// Whether one side of a comparison has its tables in one set, and the other in the other.
pub(super) fn lies_between(sides: Option<(Tables, Tables)>, left: Tables, right: Tables) -> bool {
    let within = |tables: Tables, set: Tables| tables & !set == 0;
    sides.is_some_and(|(a, b)| within(a, left) && within(b, right) || within(a, right) && within(b, left))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnostic::Span;
    use crate::logical::{ColumnId, CompareOp, Expr};
    use crate::types::SqlType;

    fn edge(a: u32, b: u32, share: f64, class: Option<usize>) -> Edge {
        let column = |id| Expr::column(ColumnId(id), SqlType::Integer, Span::default());
        let condition = Expr::compare(CompareOp::Equal, column(a), column(b), Span::default());
        let tables = 1 << a | 1 << b;
        Edge { condition, tables, share, sides: Some((1 << a, 1 << b)), bounds: None, of_result: false, class }
    }

    fn share_of(edges: &[Edge], tables: Tables, sizes: &[f64]) -> f64 {
        Conditions::of(edges.to_vec(), Vec::new(), sizes.to_vec()).share(tables)
    }

    #[test]
    fn equalities_that_follow_from_others_count_once() {
        let sizes = [100.0, 1_000.0, 10_000.0];
        let class = [edge(0, 1, 1e-3, Some(0)), edge(1, 2, 1e-4, Some(0)), edge(0, 2, 1e-4, Some(0))];
        assert!((share_of(&class, 0b111, &sizes) - 1e-7).abs() < 1e-12);
        assert!((share_of(&class, 0b101, &sizes) - 1e-4).abs() < 1e-12, "the third equality ties two of the tables");
        let apart = [edge(0, 1, 1e-3, Some(0)), edge(1, 2, 1e-4, Some(1)), edge(0, 2, 1e-1, None)];
        assert!((share_of(&apart, 0b111, &sizes) - 1e-8).abs() < 1e-13, "these are independent");
        // Tables 1 and 2 share two columns, each of which another table has as well: those two are tied as by a key of the smaller one.
        let of = |a: u32, b: u32, share: f64, class: usize| edge(a, b, share, Some(class));
        let both = [
            of(0, 1, 1e-3, 0),
            of(0, 2, 1e-3, 0),
            of(1, 2, 1e-3, 0),
            of(1, 2, 1e-2, 1),
            of(1, 3, 1e-2, 1),
            of(2, 3, 1e-2, 1),
        ];
        let sizes = [1_000.0, 5_000.0, 50_000.0, 100.0];
        // Of 5,000 rows with each 50,000 one in 5,000; then one in 1,000 for the one, and one in 100 for the other table.
        let share = share_of(&both, 0b1111, &sizes);
        assert!((share / (1.0 / 5_000.0 * 1e-3 * 1e-2) - 1.0).abs() < 1e-9, "{share}");
        let sizes = [100.0, 1_000.0, 10_000.0];
        // Two columns that make a key of the table of 100 rows: not one in 10,000 pairs, but one in 100.
        let key = [edge(0, 1, 1e-2, None), edge(0, 1, 1e-2, None)];
        assert!((share_of(&key, 0b11, &sizes) - 1e-2).abs() < 1e-12);
    }

    #[test]
    fn a_tie_counts_each_class_once() {
        let edges = vec![edge(0, 1, 1e-1, Some(0)), edge(0, 2, 1e-2, Some(0)), edge(1, 2, 1e-3, Some(1))];
        let conditions = Conditions::of(edges, Vec::new(), vec![10.0; 3]);
        let tie = conditions.tie(0b011, 0b100);
        assert_eq!((tie.keys, tie.bounds.count, tie.others), (KeyShape { count: 2, is_number: false }, 0, 0));
        assert!((tie.keyed - 1e-5).abs() < 1e-15 && (tie.ranged - 1e-5).abs() < 1e-15);
        // Of the class that ties table 0 to both others, only the first equality counts.
        let tie = conditions.tie(0b001, 0b110);
        assert_eq!(tie.keys, KeyShape { count: 1, is_number: true });
        assert!((tie.keyed - 1e-1).abs() < 1e-15);
    }
}
