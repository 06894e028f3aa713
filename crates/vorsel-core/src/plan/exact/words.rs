//! Equations between texts that are put together from fixed pieces and from variables.
//!
//! An equation is taken apart from its front, as F. W. Levi's lemma has it: the side that begins with a variable begins
//! with what the other side begins with. Once all equations are solved, whatever is still free gets a text of its own. No
//! two words are the same then but those that are the same whatever the variables are, so everything that has to differ
//! does.

use std::collections::BTreeMap;

use super::atoms::Thing;
use super::budget::{Exhausted, Steps};

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Sign {
    Character(char),
    Variable(usize),
}

pub(super) type Word = Vec<Sign>;

/// What is asked of words.
#[derive(Clone, Debug)]
pub(super) enum Demand {
    Same(Word, Word),
    Differ(Word, Word),
    OneOf(Word, Vec<String>),
    NoneOf(Word, Vec<String>),
}

/// Words and what is asked of them.
#[derive(Debug)]
pub(super) struct Words {
    /// For each variable whether it may be empty.
    may_be_empty: Vec<bool>,
    equations: Vec<(Word, Word)>,
    choices: Vec<(Word, Vec<String>)>,
    different: Vec<(Word, Word)>,
    none_of: Vec<(Word, Vec<String>)>,
}

/// One way on: what its variables stand for, and how many there are by now.
#[derive(Clone, Debug, Default)]
struct Way {
    bound: BTreeMap<usize, Word>,
    /// Variables that came up on the way, each with whether it may be empty.
    new: Vec<bool>,
    equations: Vec<(Word, Word)>,
    /// How many of the choices are made.
    chosen: usize,
}

impl Words {
    pub(super) fn new(things: &[Thing]) -> Self {
        // An empty `sub` or `iss` is refused with its token.
        let may_be_empty = |thing: &Thing| {
            !matches!(thing, Thing::Segment { may_be_empty: false, .. } | Thing::Subject | Thing::Issuer)
        };
        Self {
            may_be_empty: things.iter().map(may_be_empty).collect(),
            equations: Vec::new(),
            choices: Vec::new(),
            different: Vec::new(),
            none_of: Vec::new(),
        }
    }

    pub(super) fn demand(&mut self, demand: Demand) {
        match demand {
            Demand::Same(left, right) => self.equations.push((left, right)),
            Demand::Differ(left, right) => self.different.push((left, right)),
            Demand::OneOf(word, texts) => self.choices.push((word, texts)),
            Demand::NoneOf(word, texts) => self.none_of.push((word, texts)),
        }
    }

    /// A text for each of the variables.
    pub(super) fn solve(
        mut self,
        variables: &[usize],
        steps: &Steps<'_>,
    ) -> Result<Option<BTreeMap<usize, String>>, Exhausted> {
        // The shortest list first: it leaves the fewest ways.
        self.choices.sort_by_key(|(_, texts)| texts.len());
        let mut ways = vec![Way { equations: self.equations.clone(), ..Way::default() }];
        while let Some(mut way) = ways.pop() {
            steps.take(1 + way.equations.len())?;
            if let Some((left, right)) = way.equations.pop() {
                let (left, right) = (way.written(&left), way.written(&right));
                steps.take((left.len() + right.len()) / 16)?;
                self.taken_apart(&way, left, right, &mut ways);
                continue;
            }
            steps.take((self.different.len() + self.none_of.len()) / 4)?;
            if self.contradicts(&way) {
                continue;
            }
            if let Some((word, texts)) = self.choices.get(way.chosen) {
                way.chosen += 1;
                steps.take(texts.len() / 4)?;
                let word = way.written(word);
                if let Some(text) = ground(&word) {
                    if texts.contains(&text) {
                        ways.push(way);
                    }
                    continue;
                }
                // Taken up from the end, so that the first text is tried first.
                for text in texts.iter().rev() {
                    let equation = (word.clone(), text.chars().map(Sign::Character).collect());
                    ways.push(Way { equations: vec![equation], ..way.clone() });
                }
                continue;
            }
            if let Some(texts) = self.named(way, variables) {
                return Ok(Some(texts));
            }
        }
        Ok(None)
    }

    fn may_be_empty(&self, way: &Way, variable: usize) -> bool {
        let known = self.may_be_empty.len();
        self.may_be_empty.get(variable).copied().unwrap_or_else(|| way.new[variable - known])
    }

    fn new_variable(&self, way: &mut Way, may_be_empty: bool) -> usize {
        way.new.push(may_be_empty);
        self.may_be_empty.len() + way.new.len() - 1
    }

    /// Adds the ways in which the two words can be the same.
    fn taken_apart(&self, way: &Way, mut left: Word, mut right: Word, ways: &mut Vec<Way>) {
        let common = left.iter().zip(&right).take_while(|(one, other)| one == other).count();
        left.drain(..common);
        right.drain(..common);
        let common = left.iter().rev().zip(right.iter().rev()).take_while(|(one, other)| one == other).count();
        left.truncate(left.len() - common);
        right.truncate(right.len() - common);
        if matches!(left.first(), Some(Sign::Character(_))) || left.is_empty() {
            std::mem::swap(&mut left, &mut right);
        }
        if self.is_longer(way, &left, &right) || self.is_longer(way, &right, &left) {
            return;
        }
        let (first, next) = (left.first().copied(), right.first().copied());
        let rest = |left: &[Sign], right: &[Sign]| (left.to_vec(), right.to_vec());
        let mut go_on = |mut way: Way, bound: &[(usize, Word)], equation: (Word, Word)| {
            way.bound.extend(bound.iter().cloned());
            way.equations.push(equation);
            ways.push(way);
        };
        match (first, next) {
            (None, _) => ways.push(way.clone()),
            (Some(Sign::Character(_)), _) => {}
            // Nothing is left of the other side.
            (Some(Sign::Variable(variable)), None) => {
                if self.may_be_empty(way, variable) {
                    go_on(way.clone(), &[(variable, Word::new())], rest(&left[1..], &[]));
                }
            }
            (Some(Sign::Variable(variable)), Some(sign)) => {
                let occurs = right.contains(&Sign::Variable(variable));
                if left.len() == 1 && !occurs && self.is_surely_there(way, &right) {
                    let mut way = way.clone();
                    way.bound.insert(variable, right);
                    ways.push(way);
                    return;
                }
                match sign {
                    Sign::Character(_) => {
                        // As many of the characters as come next, the most first; what stands behind the variable says
                        // how many there can be.
                        let run = right.iter().take_while(|sign| matches!(sign, Sign::Character(_))).count();
                        let all = run == right.len();
                        let least = usize::from(!self.may_be_empty(way, variable));
                        for taken in least..=run {
                            let begins = |sign: &Sign| {
                                right.get(taken).is_none_or(|other| {
                                    matches!(sign, Sign::Variable(_))
                                        || matches!(other, Sign::Variable(_))
                                        || sign == other
                                })
                            };
                            let fits = left.get(1).is_none_or(begins) && (left.len() > 1 || !all || taken == run);
                            if fits {
                                go_on(
                                    way.clone(),
                                    &[(variable, right[..taken].to_vec())],
                                    rest(&left[1..], &right[taken..]),
                                );
                            }
                        }
                        if !all {
                            let mut way = way.clone();
                            let end = self.new_variable(&mut way, false);
                            let begin = [&right[..run], &[Sign::Variable(end)]].concat();
                            let left = [&[Sign::Variable(end)], &left[1..]].concat();
                            go_on(way, &[(variable, begin)], (left, right[run..].to_vec()));
                        }
                    }
                    Sign::Variable(other) => {
                        for (one, two) in [(variable, other), (other, variable)] {
                            // The one is longer.
                            let mut way = way.clone();
                            let end = self.new_variable(&mut way, false);
                            let word = vec![Sign::Variable(two), Sign::Variable(end)];
                            let tail = |of: &[Sign]| [&[Sign::Variable(end)], of].concat();
                            let equation = if one == variable {
                                (tail(&left[1..]), right[1..].to_vec())
                            } else {
                                (left[1..].to_vec(), tail(&right[1..]))
                            };
                            go_on(way, &[(one, word)], equation);
                        }
                        let (kept, gone) =
                            if self.may_be_empty(way, variable) { (other, variable) } else { (variable, other) };
                        go_on(way.clone(), &[(gone, vec![Sign::Variable(kept)])], rest(&left[1..], &right[1..]));
                        if self.may_be_empty(way, variable) {
                            go_on(way.clone(), &[(variable, Word::new())], rest(&left[1..], &right));
                        }
                        if self.may_be_empty(way, other) {
                            go_on(way.clone(), &[(other, Word::new())], rest(&left, &right[1..]));
                        }
                    }
                }
            }
        }
    }

    /// Whether the one word has all the signs of the other, and one more that is not empty: they are never the same then.
    fn is_longer(&self, way: &Way, one: &[Sign], other: &[Sign]) -> bool {
        let mut counts: BTreeMap<Option<usize>, isize> = BTreeMap::new();
        for (signs, step) in [(one, 1), (other, -1)] {
            for sign in signs {
                *counts.entry(if let Sign::Variable(variable) = sign { Some(*variable) } else { None }).or_default() +=
                    step;
            }
        }
        let is_there = |of: &Option<usize>| of.is_none_or(|variable| !self.may_be_empty(way, variable));
        counts.values().all(|count| *count >= 0) && counts.iter().any(|(of, count)| *count > 0 && is_there(of))
    }

    /// Whether a variable that is not empty could be this word, or the variable may be empty anyway.
    fn is_surely_there(&self, way: &Way, word: &[Sign]) -> bool {
        word.iter().any(|sign| match sign {
            Sign::Character(_) => true,
            Sign::Variable(variable) => !self.may_be_empty(way, *variable),
        })
    }

    /// Whether words that have to differ are the same by now.
    fn contradicts(&self, way: &Way) -> bool {
        let same = |(left, right): &(Word, Word)| way.written(left) == way.written(right);
        let among =
            |(word, texts): &(Word, Vec<String>)| ground(&way.written(word)).is_some_and(|text| texts.contains(&text));
        self.different.iter().any(same) || self.none_of.iter().any(among)
    }

    /// The texts once every variable that is still free has one of its own.
    fn named(&self, mut way: Way, variables: &[usize]) -> Option<BTreeMap<usize, String>> {
        let all: Vec<usize> = (0..self.may_be_empty.len() + way.new.len()).collect();
        let (mut number, mut free) = (0, BTreeMap::new());
        let wanted =
            variables.iter().flat_map(|variable| way.written(&[Sign::Variable(*variable)])).collect::<Vec<_>>();
        for variable in all.into_iter().filter(|variable| !way.bound.contains_key(variable)) {
            let is_wanted = wanted.contains(&Sign::Variable(variable));
            if !is_wanted && variable < self.may_be_empty.len() {
                continue;
            }
            let name = loop {
                number += 1;
                let name = if number == 1 { "somebody".to_owned() } else { format!("somebody-{number}") };
                if !self.says(&name) {
                    break name;
                }
            };
            free.insert(variable, name.chars().map(Sign::Character).collect::<Word>());
        }
        way.bound.extend(free);
        if self.contradicts(&way) {
            return None;
        }
        variables
            .iter()
            .map(|variable| Some((*variable, ground(&way.written(&[Sign::Variable(*variable)]))?)))
            .collect()
    }

    /// Whether a text that is asked for has this name in it.
    fn says(&self, name: &str) -> bool {
        let in_word = |word: &Word| {
            let text: String =
                word.iter().map(|sign| if let Sign::Character(one) = sign { *one } else { '\u{0}' }).collect();
            text.contains(name)
        };
        let pairs = self.equations.iter().chain(&self.different).flat_map(|(left, right)| [left, right]);
        let lists = self.choices.iter().chain(&self.none_of);
        pairs.chain(lists.clone().map(|(word, _)| word)).any(in_word)
            || lists.flat_map(|(_, texts)| texts).any(|text| text.contains(name))
    }
}

impl Way {
    /// The word with what its variables stand for.
    fn written(&self, word: &[Sign]) -> Word {
        let (mut written, mut open) = (Word::new(), vec![word.iter()]);
        while let Some(signs) = open.last_mut() {
            match signs.next() {
                None => drop(open.pop()),
                Some(Sign::Variable(variable)) if self.bound.contains_key(variable) => {
                    open.push(self.bound[variable].iter());
                }
                Some(sign) => written.push(*sign),
            }
        }
        written
    }
}

/// The text of a word without variables.
fn ground(word: &[Sign]) -> Option<String> {
    word.iter().map(|sign| if let Sign::Character(one) = sign { Some(*one) } else { None }).collect()
}
