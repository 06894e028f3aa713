//! Tokens that were accepted, in a fixed number of places.

use std::hash::{BuildHasher, RandomState};
use std::mem;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use vorsel_core::{Checked, Claims, NoOwn};

/// The most bytes a remembered token and its claims take.
pub(super) const LARGEST: usize = 4 * 1024;
/// Places that a token may be in. Looking through all of them takes no longer than one.
const PLACES: usize = 8;

/// A table of a fixed number of shelves with a few places each. A token's signature says which shelf it belongs on, by a
/// quick hash whose key nobody outside knows; only the same token, byte for byte, is found there.
///
/// Nobody can fill a shelf on purpose: only accepted tokens are put on one, and their signatures are not theirs to
/// choose. If somebody could, other tokens would be checked in full, and nothing else.
///
/// What was accepted counts for one version of what has accepted it: a shelf that is asked for a later one is emptied first.
pub(super) struct SeenTokens<C> {
    key: [u64; 2],
    shelves: Box<[Shelf<C>]>,
}

/// Begins with a line of the processor's cache, so that the lock shares it with the head of the row.
#[repr(align(64))]
struct Shelf<C>(Mutex<Row<C>>);

/// The head fills the rest of that line, and each place is half of one: a look along the row touches two.
#[repr(C)]
struct Row<C> {
    hashes: [u32; PLACES],
    version: u64,
    /// Counts the uses of this shelf, but for those of the token that was used last.
    uses: u64,
    _to_the_next_line: u64,
    places: Places<C>,
}

type Places<C> = [Option<Seen<C>>; PLACES];

struct Seen<C> {
    token: Box<[u8]>,
    checked: Arc<Checked<C>>,
    last_used: u64,
}

impl<C> SeenTokens<C> {
    /// Room for at least `tokens`, rounded up to whole shelves.
    pub(super) fn with_room(tokens: usize) -> Self {
        let random = RandomState::new();
        let key = [random.hash_one(0), random.hash_one(1)];
        Self { key, shelves: (0..tokens.div_ceil(PLACES)).map(|_| Shelf::empty()).collect() }
    }

    pub(super) fn find(&self, token: &[u8], version: u64) -> Option<Arc<Checked<C>>> {
        let (hash, mut row) = self.row(token, version)?;
        let place = row.place_of(hash, token)?;
        let uses = row.uses;
        let seen = row.places[place].as_mut()?;
        let checked = seen.checked.clone();
        // The one that was used last stays so, and nothing is written: another processor may have this memory at hand.
        if seen.last_used != uses {
            seen.last_used = uses + 1;
            row.uses = uses + 1;
        }
        Some(checked)
    }

    pub(super) fn remember(&self, token: &[u8], version: u64, checked: &Arc<Checked<C>>) {
        let of_its_own = size_of::<Checked<NoOwn>>() + size_of::<Claims>() + size_of::<Seen<C>>();
        if token.len() + checked.claims().memory() + of_its_own > LARGEST {
            return;
        }
        let Some((hash, mut row)) = self.row(token, version) else { return };
        row.uses += 1;
        let seen = Seen { token: token.into(), checked: checked.clone(), last_used: row.uses };
        let longest_unused = |row: &Row<C>| {
            let used = |place: &usize| row.places[*place].as_ref().map_or(0, |seen| 1 + seen.last_used);
            (0..PLACES).min_by_key(used).unwrap_or_default()
        };
        let place = row.place_of(hash, token).unwrap_or_else(|| longest_unused(&row));
        row.hashes[place] = hash;
        let old = row.places[place].replace(seen);
        // Whatever the app's own type does when it is dropped, it does not hold up the others.
        drop(row);
        drop(old);
    }

    pub(super) fn forget(&self, token: &[u8], version: u64) {
        let Some((hash, mut row)) = self.row(token, version) else { return };
        let old = row.place_of(hash, token).and_then(|place| row.places[place].take());
        drop(row);
        drop(old);
    }

    /// The row of this version that a token belongs in.
    #[inline]
    fn row(&self, token: &[u8], version: u64) -> Option<(u32, MutexGuard<'_, Row<C>>)> {
        // The end of the signature, 96 bits of it, tells tokens apart; no accepted token is shorter.
        let (first, second) = token.last_chunk::<16>()?.split_at(8);
        let word = |bytes: &[u8]| bytes.try_into().map(u64::from_ne_bytes).unwrap_or_default();
        let product = u128::from(word(first) ^ self.key[0]) * u128::from(word(second) ^ self.key[1]);
        let [low, high] = [product, product >> 64].map(|half| (half & u128::from(u64::MAX)) as u64);
        let hash = low ^ high;
        // The hash as a part of all there are, which is quicker than a remainder. Its end tells those of a row apart.
        let place = (u128::from(hash) * self.shelves.len() as u128) >> 64;
        let shelf = self.shelves.get(place as usize)?;
        let row = shelf.lock();
        let row = if row.version == version { row } else { shelf.turned_to(version, row)? };
        Some((hash as u32, row))
    }
}

impl<C> Shelf<C> {
    fn empty() -> Self {
        let places = [const { None }; PLACES];
        Self(Mutex::new(Row { hashes: [0; PLACES], version: 0, uses: 0, _to_the_next_line: 0, places }))
    }

    fn lock(&self) -> MutexGuard<'_, Row<C>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The row for a later version, emptied; nothing for one that is over.
    #[cold]
    fn turned_to<'s>(&'s self, version: u64, mut row: MutexGuard<'s, Row<C>>) -> Option<MutexGuard<'s, Row<C>>> {
        if version < row.version {
            return None;
        }
        row.version = version;
        let old = mem::replace(&mut row.places, [const { None }; PLACES]);
        drop(row);
        drop(old);
        Some(self.lock()).filter(|row| row.version == version)
    }
}

impl<C> Row<C> {
    #[inline]
    fn place_of(&self, hash: u32, token: &[u8]) -> Option<usize> {
        let is = |place: &usize| self.places[*place].as_ref().is_some_and(|seen| *seen.token == *token);
        (0..PLACES).filter(|place| self.hashes[*place] == hash).find(is)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use vorsel_core::Vouched;

    fn checked() -> Arc<Checked> {
        Arc::new(Vouched::subject("obs-0017").checked().expect("claims"))
    }

    #[cfg(target_pointer_width = "64")]
    #[test]
    fn the_head_of_a_shelf_fills_a_line_and_a_place_is_half_of_one() {
        assert_eq!((size_of::<Seen<NoOwn>>(), size_of::<Shelf<NoOwn>>()), (32, 64 + 32 * PLACES));
        assert_eq!(align_of::<Shelf<NoOwn>>(), 64);
    }

    #[test]
    fn what_was_accepted_by_one_version_is_nothing_to_any_other() {
        let (seen, token) = (SeenTokens::with_room(8), b"a token with a signature of some length".as_slice());
        // What each step does, and whether the token is found under the versions 0 to 3 after it, asked in this order.
        for (remembered_by, found) in
            [(0, [true, false, false, false]), (2, [false; 4]), (3, [false, false, false, true])]
        {
            seen.remember(token, remembered_by, &checked());
            assert_eq!([0, 1, 2, 3].map(|version| seen.find(token, version).is_some()), found, "{remembered_by}");
        }
        seen.forget(token, 2);
        assert!(seen.find(token, 3).is_some(), "a late word about an older version");
        seen.forget(token, 3);
        assert!(seen.find(token, 3).is_none());
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn the_token_that_goes_is_the_one_that_was_longest_unused(
            steps in proptest::collection::vec((0..PLACES as u8 + 3, any::<bool>()), 0..120),
        ) {
            let (seen, claims) = (SeenTokens::with_room(PLACES), checked());
            // The latest stands last.
            let mut expected = Vec::new();
            for (name, is_remembered) in steps {
                let (token, known) = ([name; 40], expected.iter().position(|known| *known == name));
                if is_remembered {
                    seen.remember(&token, 0, &claims);
                    let goes = known.or((expected.len() == PLACES).then_some(0));
                    goes.map(|place| expected.remove(place));
                } else {
                    prop_assert_eq!(seen.find(&token, 0).is_some(), known.is_some());
                    let Some(place) = known else { continue };
                    expected.remove(place);
                }
                expected.push(name);
            }
            for name in 0..PLACES as u8 + 3 {
                prop_assert_eq!(seen.find(&[name; 40], 0).is_some(), expected.contains(&name), "{}", name);
            }
        }
    }

    #[test]
    fn a_later_version_lets_go_of_what_was_there() {
        let (seen, token, claims) = (SeenTokens::with_room(8), [7; 40], checked());
        seen.remember(&token, 0, &claims);
        assert_eq!(Arc::strong_count(&claims), 2);
        assert!(seen.find(&token, 1).is_none());
        assert_eq!(Arc::strong_count(&claims), 1);
    }
}
