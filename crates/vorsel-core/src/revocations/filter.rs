//! A small table of bits that says of most names that they are surely not among many others.

use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};

use crate::token::NameHash;

/// A Bloom filter whose bits for one name all lie in one word, so that a look touches one piece of memory, and a small
/// one: the maps behind it are large, and what is far away takes long to read.
pub(super) struct Filter(Box<[AtomicU64]>);

/// With this many bits for each name, one name in some two hundred is taken for another.
const BITS_PER_NAME: usize = 16;
const LEAST_NAMES: usize = 4_096;
/// Sizes, each with room for twice as many names as the one before: up to eight million.
const SIZES: usize = 12;

/// One filter of each size, made when it is needed; the current one is the largest.
pub(super) struct Filters {
    sizes: [OnceLock<Filter>; SIZES],
    current: AtomicUsize,
}

impl Filters {
    pub(super) const fn new() -> Self {
        Self { sizes: [const { OnceLock::new() }; SIZES], current: AtomicUsize::new(0) }
    }

    pub(super) fn current(&self) -> &Filter {
        self.of_size(self.current.load(Ordering::Acquire))
    }

    fn of_size(&self, size: usize) -> &Filter {
        self.sizes[size].get_or_init(|| Filter::for_names(LEAST_NAMES << size))
    }

    /// How many names there is room for. Beyond the largest size more names are mistaken for others.
    pub(super) fn room(&self) -> usize {
        match self.current.load(Ordering::Acquire) {
            last if last + 1 == SIZES => usize::MAX,
            size => LEAST_NAMES << size,
        }
    }

    pub(super) fn add(&self, name: &str) {
        self.current().add(name);
    }

    /// Leaves these names alone, with room for so many. Nobody may add a name meanwhile; readers find each of these at
    /// any time.
    pub(super) fn fill<'n>(&self, room: usize, names: impl Iterator<Item = &'n str>) {
        let fitting = (0..SIZES).find(|size| LEAST_NAMES << size >= room).unwrap_or(SIZES - 1);
        let size = fitting.max(self.current.load(Ordering::Acquire));
        self.of_size(size).fill(names);
        self.current.store(size, Ordering::Release);
    }
}

impl Filter {
    fn for_names(count: usize) -> Self {
        let words = (count * BITS_PER_NAME / 64).next_power_of_two();
        Self((0..words).map(|_| AtomicU64::new(0)).collect())
    }

    fn fill<'n>(&self, names: impl Iterator<Item = &'n str>) {
        let mut words = vec![0; self.0.len()];
        for name in names {
            let (index, bits) = self.place(NameHash::of(name));
            words[index] |= bits;
        }
        // A word at a time: the bits of a name are in one word, and are there before and after.
        self.0.iter().zip(words).for_each(|(word, bits)| word.store(bits, Ordering::Release));
    }

    fn add(&self, name: &str) {
        let (index, bits) = self.place(NameHash::of(name));
        self.0[index].fetch_or(bits, Ordering::Release);
    }

    /// False only if the name was never added.
    pub(super) fn may_have(&self, name: NameHash) -> bool {
        let (index, bits) = self.place(name);
        self.0[index].load(Ordering::Acquire) & bits == bits
    }

    fn place(&self, name: NameHash) -> (usize, u64) {
        let hash = name.get();
        let bit = |shift: u32| 1_u64 << (hash >> shift & 63);
        ((hash >> 19) as usize & (self.0.len() - 1), bit(1) | bit(7) | bit(13))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_added_is_found_and_little_else() {
        for count in [1, 1_000, 100_000] {
            let filters = Filters::new();
            let there: Vec<_> = (0..count).map(|number| format!("there {number}")).collect();
            let (first, rest) = there.split_at(count / 2);
            filters.fill(count, first.iter().map(String::as_str));
            assert!(filters.room() >= count);
            rest.iter().for_each(|name| filters.add(name));
            assert!(there.iter().all(|name| filters.current().may_have(NameHash::of(name))));
            let mistaken = |kept: &str| {
                (0..10_000)
                    .filter(|number| filters.current().may_have(NameHash::of(&format!("{kept} {number}"))))
                    .count()
            };
            assert!(mistaken("not") < 300, "{} of 10,000 with {count} names", mistaken("not"));
            filters.fill(0, rest.iter().map(String::as_str));
            assert!(rest.iter().all(|name| filters.current().may_have(NameHash::of(name))));
            let left = first.iter().filter(|name| filters.current().may_have(NameHash::of(name))).count();
            assert!(left * 20 <= first.len(), "{left} of {} forgotten names", first.len());
        }
    }
}
