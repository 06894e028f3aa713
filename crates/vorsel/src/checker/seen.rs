//! Tokens that were accepted, in a fixed number of places.

use std::hash::{BuildHasher, RandomState};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use vorsel_core::{Checked, NoOwn};

/// The most bytes a remembered token and its claims take.
pub(super) const LARGEST: usize = 4 * 1024;
/// Places that a token may be in. Looking through all of them takes no longer than one.
const PLACES: usize = 8;

/// A table of a fixed number of shelves with a few places each. A token's signature says which shelf it belongs on, by a
/// quick hash whose key nobody outside knows; only the same token, byte for byte, is found there.
///
/// Nobody can fill a shelf on purpose: only accepted tokens are put on one, and their signatures are not theirs to
/// choose. If somebody could, other tokens would be checked in full, and nothing else.
pub(super) struct SeenTokens<C> {
    key: [u64; 2],
    shelves: Box<[Mutex<Shelf<C>>]>,
}

/// The hashes stand together, so that a look along the shelf touches one piece of memory and not one for each place.
struct Shelf<C> {
    hashes: [u64; PLACES],
    places: [Option<Seen<C>>; PLACES],
    /// Counts the uses of this shelf.
    uses: u64,
}

struct Seen<C> {
    token: Box<[u8]>,
    checked: Arc<Checked<C>>,
    last_used: u64,
}

impl<C> SeenTokens<C> {
    /// Room for at least `tokens`, rounded up to whole shelves.
    pub(super) fn with_room(tokens: usize) -> Self {
        let shelf = || Mutex::new(Shelf { hashes: [0; PLACES], places: [const { None }; PLACES], uses: 0 });
        let random = RandomState::new();
        let key = [random.hash_one(0), random.hash_one(1)];
        Self { key, shelves: (0..tokens.div_ceil(PLACES)).map(|_| shelf()).collect() }
    }

    pub(super) fn find(&self, token: &[u8]) -> Option<Arc<Checked<C>>> {
        let (hash, mut shelf) = self.shelf(token)?;
        shelf.uses += 1;
        let uses = shelf.uses;
        let place = shelf.place_of(hash, token)?;
        let seen = shelf.places[place].as_mut()?;
        seen.last_used = uses;
        Some(seen.checked.clone())
    }

    pub(super) fn remember(&self, token: &[u8], checked: &Arc<Checked<C>>) {
        if token.len() + checked.claims().memory() + size_of::<Checked<NoOwn>>() + size_of::<Seen<C>>() > LARGEST {
            return;
        }
        let Some((hash, mut shelf)) = self.shelf(token) else { return };
        let seen = Seen { token: token.into(), checked: checked.clone(), last_used: shelf.uses };
        let longest_unused = |shelf: &Shelf<C>| {
            let used = |place: &usize| shelf.places[*place].as_ref().map_or(0, |seen| 1 + seen.last_used);
            (0..PLACES).min_by_key(used).unwrap_or_default()
        };
        let place = shelf.place_of(hash, token).unwrap_or_else(|| longest_unused(&shelf));
        shelf.hashes[place] = hash;
        let old = shelf.places[place].replace(seen);
        // Whatever the app's own type does when it is dropped, it does not hold up the others.
        drop(shelf);
        drop(old);
    }

    pub(super) fn forget(&self, token: &[u8]) {
        let Some((hash, mut shelf)) = self.shelf(token) else { return };
        let old = shelf.place_of(hash, token).and_then(|place| shelf.places[place].take());
        drop(shelf);
        drop(old);
    }

    fn shelf(&self, token: &[u8]) -> Option<(u64, MutexGuard<'_, Shelf<C>>)> {
        // The end of the signature, 96 bits of it, tells tokens apart; no accepted token is shorter.
        let (first, second) = token.last_chunk::<16>()?.split_at(8);
        let word = |bytes: &[u8]| bytes.try_into().map(u64::from_ne_bytes).unwrap_or_default();
        let product = u128::from(word(first) ^ self.key[0]) * u128::from(word(second) ^ self.key[1]);
        let [low, high] = [product, product >> 64].map(|half| (half & u128::from(u64::MAX)) as u64);
        let hash = low ^ high;
        // The hash as a part of all there are, which is quicker than a remainder.
        let place = (u128::from(hash) * self.shelves.len() as u128) >> 64;
        let shelf = self.shelves.get(place as usize)?;
        Some((hash, shelf.lock().unwrap_or_else(PoisonError::into_inner)))
    }
}

impl<C> Shelf<C> {
    #[inline]
    fn place_of(&self, hash: u64, token: &[u8]) -> Option<usize> {
        let is = |place: &usize| self.places[*place].as_ref().is_some_and(|seen| *seen.token == *token);
        (0..PLACES).filter(|place| self.hashes[*place] == hash).find(is)
    }
}
