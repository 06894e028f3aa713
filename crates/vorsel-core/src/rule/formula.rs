//! Boolean formulas over numbered atoms, with `not` at the atoms only. Each is kept once however often it is used, so what
//! names the same thing many times takes no more room and no more time than what names it once.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use foldhash::fast::RandomState;

/// A formula of one [`Formulas`]. Two are the same if, and only if, they are written alike.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct Formula(u32);

impl Formula {
    pub(crate) const fn number(self) -> usize {
        self.0 as usize
    }

    /// The formula of that number, which is that of one there is.
    pub(crate) const fn numbered(number: usize) -> Self {
        Self(number as u32)
    }
}

/// What a formula says.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Node {
    /// True or false whatever the atoms are.
    Always(bool),
    /// The atom is as said.
    Is(usize, bool),
    /// Each part is true.
    All(Arc<[Formula]>),
    /// One part at least is true.
    Any(Arc<[Formula]>),
}

/// Which formulas a list has. A short one is quicker looked through than hashed.
enum Among {
    Few(Vec<Formula>),
    Many(HashSet<Formula, RandomState>),
}

impl Among {
    /// Those of a list, of which repetitions are taken out.
    fn of(list: &mut Vec<Formula>) -> Self {
        const FEW: usize = 8;
        if list.len() > FEW {
            let mut seen = HashSet::with_hasher(RandomState::default());
            list.retain(|part| seen.insert(*part));
            return Self::Many(seen);
        }
        let mut seen: Vec<Formula> = Vec::with_capacity(FEW);
        list.retain(|part| {
            let is_new = !seen.contains(part);
            seen.extend(is_new.then_some(*part));
            is_new
        });
        Self::Few(seen)
    }

    fn has(&self, formula: Formula) -> bool {
        match self {
            Self::Few(formulas) => formulas.contains(&formula),
            Self::Many(formulas) => formulas.contains(&formula),
        }
    }
}

/// Formulas and their parts; a part always comes before what it is a part of, and next to each formula stands what is true
/// where it is not.
#[derive(Clone, Debug)]
pub(crate) struct Formulas {
    nodes: Vec<Node>,
    /// How many lists lie inside each other.
    depths: Vec<u32>,
    known: HashMap<Node, Formula, RandomState>,
    /// What the parts of the formula at hand come to, each with the number of the round in which it was found out.
    rewritten: Vec<(u32, Formula)>,
    round: u32,
}

impl Formulas {
    pub(crate) fn new() -> Self {
        let mut formulas =
            Self { nodes: Vec::new(), depths: Vec::new(), known: HashMap::default(), rewritten: Vec::new(), round: 0 };
        formulas.keep(Node::Always(false));
        formulas
    }

    pub(crate) fn node(&self, formula: Formula) -> &Node {
        &self.nodes[formula.0 as usize]
    }

    pub(crate) fn depth(&self, formula: Formula) -> u32 {
        self.depths[formula.0 as usize]
    }

    /// True, or false.
    pub(crate) const fn always(value: bool) -> Formula {
        Formula(value as u32)
    }

    /// Whether it is true or false whatever the atoms are, and which.
    pub(crate) fn constant(&self, formula: Formula) -> Option<bool> {
        if let Node::Always(value) = self.node(formula) { Some(*value) } else { None }
    }

    pub(crate) fn is(&mut self, atom: usize, wanted: bool) -> Formula {
        self.keep(Node::Is(atom, wanted))
    }

    /// Each of these.
    pub(crate) fn all(&mut self, parts: impl IntoIterator<Item = Formula>) -> Formula {
        self.list(parts, true)
    }

    /// One of these.
    pub(crate) fn any(&mut self, parts: impl IntoIterator<Item = Formula>) -> Formula {
        self.list(parts, false)
    }

    /// A list without constants and repetitions, lists of its own kind put in; `neutral` is what changes nothing in it.
    fn list(&mut self, parts: impl IntoIterator<Item = Formula>, neutral: bool) -> Formula {
        let mut kept: Vec<Formula> = Vec::new();
        for part in parts {
            match self.node(part) {
                Node::Always(value) if *value == neutral => {}
                Node::Always(decisive) => return Self::always(*decisive),
                Node::All(inner) if neutral => kept.extend(inner.iter()),
                Node::Any(inner) if !neutral => kept.extend(inner.iter()),
                _ => kept.push(part),
            }
        }
        let among = Among::of(&mut kept);
        let opposite = |part: Formula| match self.node(part) {
            Node::All(inner) if !neutral => Some(inner),
            Node::Any(inner) if neutral => Some(inner),
            _ => None,
        };
        let is_contradicted = |part: &Formula| among.has(self.not(*part));
        if kept
            .iter()
            .any(|part| is_contradicted(part) || opposite(*part).is_some_and(|inner| inner.iter().all(is_contradicted)))
        {
            return Self::always(!neutral);
        }
        // `a and (a or b)` is `a`.
        let is_implied =
            |part: &Formula| opposite(*part).is_some_and(|inner| inner.iter().any(|part| among.has(*part)));
        let implied: Vec<bool> = kept.iter().map(is_implied).collect();
        let mut implied = implied.into_iter();
        kept.retain(|_| implied.next() == Some(false));
        match kept.as_slice() {
            [] => Self::always(neutral),
            [one] => *one,
            _ if neutral => self.keep(Node::All(kept.into())),
            _ => self.keep(Node::Any(kept.into())),
        }
    }

    fn keep(&mut self, node: Node) -> Formula {
        if let Some(known) = self.known.get(&node) {
            return *known;
        }
        let opposite = match &node {
            Node::Always(value) => Node::Always(!value),
            Node::Is(atom, wanted) => Node::Is(*atom, !wanted),
            Node::All(parts) => Node::Any(parts.iter().map(|part| self.not(*part)).collect()),
            Node::Any(parts) => Node::All(parts.iter().map(|part| self.not(*part)).collect()),
        };
        let number = u32::try_from(self.nodes.len()).expect("fewer formulas than 2^32 fit into memory");
        let inside = self.parts_of(&node).iter().map(|part| self.depth(*part) + 1).max().unwrap_or_default();
        for (node, number) in [(node, number), (opposite, number + 1)] {
            self.depths.push(inside);
            self.nodes.push(node.clone());
            self.known.insert(node, Formula(number));
        }
        Formula(number)
    }

    fn parts_of<'n>(&self, node: &'n Node) -> &'n [Formula] {
        match node {
            Node::Always(_) | Node::Is(..) => &[],
            Node::All(parts) | Node::Any(parts) => parts,
        }
    }

    /// The formula and its parts, each once, every part before what it is a part of.
    pub(crate) fn parts(&self, formula: Formula) -> Vec<Formula> {
        let (mut seen, mut open) = (std::collections::BTreeSet::from([formula]), vec![formula]);
        while let Some(next) = open.pop() {
            open.extend(self.parts_of(self.node(next)).iter().copied().filter(|part| seen.insert(*part)));
        }
        seen.into_iter().collect()
    }

    /// The formulas among the parts that stand in more than one place of it.
    pub(crate) fn repeated(&self, formula: Formula) -> Vec<Formula> {
        let mut places: BTreeMap<Formula, u32> = BTreeMap::new();
        for part in self.parts(formula) {
            self.parts_of(self.node(part)).iter().for_each(|inner| *places.entry(*inner).or_default() += 1);
        }
        let is_list = |part: &Formula| !self.parts_of(self.node(*part)).is_empty();
        places.into_iter().filter(|(part, count)| *count > 1 && is_list(part)).map(|(part, _)| part).collect()
    }

    /// The formula rewritten from its atoms up: `atom` says what takes the place of each.
    pub(crate) fn rewritten(
        &mut self,
        formula: Formula,
        mut atom: impl FnMut(&mut Self, usize, bool) -> Formula,
    ) -> Formula {
        let mut new: HashMap<Formula, Formula, RandomState> = HashMap::default();
        for part in self.parts(formula) {
            let rewritten = match self.node(part).clone() {
                Node::Always(_) => part,
                Node::Is(number, wanted) => atom(self, number, wanted),
                Node::All(parts) => self.all(parts.iter().map(|part| new[part])),
                Node::Any(parts) => self.any(parts.iter().map(|part| new[part])),
            };
            new.insert(part, rewritten);
        }
        new[&formula]
    }

    /// What is left once some atoms are known.
    pub(crate) fn given(&mut self, formula: Formula, known: impl Fn(usize) -> Option<bool>) -> Formula {
        self.rewritten(formula, |formulas, atom, wanted| match known(atom) {
            Some(value) => Self::always(value == wanted),
            None => formulas.is(atom, wanted),
        })
    }

    /// [`given`](Self::given) for a search, which does it again and again: the memory is kept, and what is as it was is not
    /// made anew. Says how much work it was.
    pub(crate) fn given_again(&mut self, formula: Formula, known: impl Fn(usize) -> Option<bool>) -> (Formula, usize) {
        self.round += 1;
        self.rewritten.resize(self.nodes.len(), (0, formula));
        let (mut open, mut work) = (vec![formula], 0);
        while let Some(next) = open.last().copied() {
            if self.rewritten[next.number()].0 == self.round {
                open.pop();
                continue;
            }
            let new = match self.node(next) {
                Node::Always(_) => next,
                Node::Is(atom, wanted) => known(*atom).map_or(next, |value| Self::always(value == *wanted)),
                Node::All(parts) | Node::Any(parts) => {
                    let parts = parts.clone();
                    let before = open.len();
                    open.extend(parts.iter().copied().filter(|part| self.rewritten[part.number()].0 != self.round));
                    work += parts.len();
                    if open.len() > before {
                        continue;
                    }
                    let is_all = matches!(self.node(next), Node::All(_));
                    let new: Vec<Formula> = parts.iter().map(|part| self.rewritten[part.number()].1).collect();
                    if *new == *parts { next } else { self.list(new, is_all) }
                }
            };
            work += 1;
            self.rewritten[next.number()] = (self.round, new);
            open.pop();
        }
        (self.rewritten[formula.number()].1, work)
    }

    /// The atoms in it in the order written, each with whether it is wanted false somewhere and true somewhere.
    pub(crate) fn wanted(&mut self, formula: Formula) -> Vec<(usize, [bool; 2])> {
        self.round += 1;
        self.rewritten.resize(self.nodes.len(), (0, formula));
        let (mut atoms, mut open) = (Vec::new(), vec![formula]);
        let mut places: HashMap<usize, usize, RandomState> = HashMap::default();
        while let Some(next) = open.pop() {
            if std::mem::replace(&mut self.rewritten[next.number()].0, self.round) == self.round {
                continue;
            }
            match self.node(next) {
                Node::Always(_) => {}
                Node::Is(atom, wanted) => {
                    let place = *places.entry(*atom).or_insert_with(|| {
                        atoms.push((*atom, [false; 2]));
                        atoms.len() - 1
                    });
                    atoms[place].1[usize::from(*wanted)] = true;
                }
                Node::All(parts) | Node::Any(parts) => open.extend(parts.iter().rev()),
            }
        }
        atoms
    }

    /// What is true where the formula is not: its neighbour.
    pub(crate) const fn not(&self, formula: Formula) -> Formula {
        Formula(formula.0 ^ 1)
    }

    /// How many atoms there would be if it were written out.
    pub(crate) fn written_size(&self, formula: Formula) -> usize {
        let mut sizes: HashMap<Formula, usize, RandomState> = HashMap::default();
        for part in self.parts(formula) {
            let inside = self.parts_of(self.node(part)).iter().map(|part| sizes[part]);
            sizes.insert(part, inside.fold(0, usize::saturating_add).max(1));
        }
        sizes[&formula]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_alike_is_the_same_formula() {
        let mut formulas = Formulas::new();
        let [a, b, c] = [0, 1, 2].map(|atom| formulas.is(atom, true));
        let ab = formulas.all([a, b]);
        assert_eq!(formulas.all([a, Formulas::always(true), b, a]), ab);
        assert_eq!(formulas.all([ab]), ab);
        let (nested, flat) = (formulas.all([ab, c]), formulas.all([a, b, c]));
        assert_eq!(nested, flat);
        assert_eq!(formulas.all([ab, Formulas::always(false)]), Formulas::always(false));
        assert_eq!(formulas.any([]), Formulas::always(false));
        let not_ab = formulas.not(ab);
        assert_eq!(formulas.node(not_ab), &Node::Any([0, 1].map(|atom| formulas.clone().is(atom, false)).into()));
        assert_eq!(formulas.not(not_ab), ab);
        assert_eq!(formulas.given(flat, |atom| (atom == 2).then_some(true)), ab);
        assert_eq!(formulas.wanted(flat).iter().map(|(atom, _)| *atom).collect::<Vec<_>>(), [0, 1, 2]);
        let [not_a, or_b] = [formulas.not(a), formulas.any([a, b])];
        assert_eq!((formulas.all([a, not_a]), formulas.all([a, or_b])), (Formulas::always(false), a));
        assert_eq!(
            (formulas.any([ab, not_ab]), formulas.all([ab, not_ab])),
            (Formulas::always(true), Formulas::always(false))
        );
    }

    /// Each names the one before twice: written out, the last one has over 2^70 atoms.
    #[test]
    fn what_names_others_twice_costs_no_more_than_what_names_them_once() {
        let mut formulas = Formulas::new();
        let mut last = formulas.is(0, true);
        for level in 1..=70 {
            let [left, right] = [2 * level, 2 * level + 1].map(|atom| formulas.is(atom, true));
            let parts = [left, right].map(|side| formulas.all([last, side]));
            last = formulas.any(parts);
        }
        assert_eq!((formulas.parts(last).len(), formulas.wanted(last).len()), (351, 141));
        assert_eq!((formulas.written_size(last), formulas.depth(last)), (usize::MAX, 140));
        assert_eq!(formulas.repeated(last).len(), 69);
        let negated = formulas.not(last);
        assert_eq!(formulas.not(negated), last);
        assert_eq!(formulas.given(last, |atom| Some(atom == 0)), Formulas::always(false));
        assert_eq!(formulas.given(last, |_| Some(true)), Formulas::always(true));
    }
}
