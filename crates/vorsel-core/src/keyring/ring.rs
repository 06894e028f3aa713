//! The keyring and its steps.

use std::sync::Arc;
use std::time::Duration;

use super::error::StepError;
use super::record::{KeyRecord, KeyState};
use crate::key::{Algorithm, KeySet, SigningKey};
use crate::time::{LARGEST_SKEW, Lifetime, Timestamp};

/// What the safe dates follow from.
///
/// ```
/// use vorsel_core::{KeyTimes, Lifetime};
///
/// let times = KeyTimes { longest_lifetime: Lifetime::minutes(5), ..KeyTimes::default() };
/// assert_eq!(times.cache_time.as_secs(), 300);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct KeyTimes {
    /// The longest lifetime of a token that the keys sign. The issuer refuses longer ones.
    pub longest_lifetime: Lifetime,
    /// For how long a verifier may go by a key set before it asks for it again.
    pub cache_time: Duration,
    /// How long all instances of the issuer take to learn of a step, and how far their clocks differ, together.
    pub spread: Duration,
}

impl Default for KeyTimes {
    /// Tokens of up to an hour, key sets kept for 5 minutes, instances within 40 seconds: clocks may differ by 30.
    fn default() -> Self {
        Self {
            longest_lifetime: Lifetime::minutes(60),
            cache_time: Duration::from_secs(300),
            spread: Duration::from_secs(40),
        }
    }
}

/// The keys one issuer signs with, and their states over time. Plain data: each state follows from dates and `now`.
///
/// [`roll`](Self::roll) is all that regular rotation takes: the new key is published at once, begins to sign when every
/// verifier knows it, and the old one goes on checking what it signed. A step that would make good tokens be refused is
/// not taken; the error says why and from when on it is safe.
///
/// ```
/// use vorsel_core::{Algorithm, KeyTimes, Keyring, SigningKey, Timestamp};
///
/// let now = Timestamp::from_secs(1_700_000_000);
/// let mut keyring = Keyring::new(SigningKey::generate(Algorithm::EdDsa)?.named("first"), KeyTimes::default(), now);
/// let from = keyring.roll(SigningKey::generate(Algorithm::EdDsa)?.named("second"), now)?;
/// assert!(from > now, "every verifier has to know it first");
/// assert_eq!(keyring.signing_key(now).map(|key| key.key_id()), Some("first"));
/// assert_eq!(keyring.key_set().keys().len(), 2);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
pub struct Keyring {
    pub(super) times: KeyTimes,
    pub(super) keys: Vec<KeyRecord>,
    /// How many steps have led here.
    pub(super) step: u64,
}

impl Keyring {
    /// A keyring whose first key signs from `now` on: nobody can have a key set without it.
    #[must_use]
    pub fn new(first: SigningKey, times: KeyTimes, now: Timestamp) -> Self {
        Self::beginning(Arc::new(first), times, now.whole_secs())
    }

    fn beginning(first: Arc<SigningKey>, times: KeyTimes, at: Timestamp) -> Self {
        let first = KeyRecord { active_from: Some(at), ..KeyRecord::published(first, at) };
        Self { times, keys: vec![first], step: 0 }
    }

    /// What the safe dates follow from.
    #[must_use]
    pub const fn times(&self) -> &KeyTimes {
        &self.times
    }

    /// Every key there is or was, in the order in which they were published.
    #[must_use]
    pub fn keys(&self) -> &[KeyRecord] {
        &self.keys
    }

    /// Allows tokens of this lifetime; a longest lifetime that is longer stays.
    pub fn allow_lifetime(&mut self, lifetime: Lifetime) {
        if self.times.longest_lifetime < lifetime {
            self.times.longest_lifetime = lifetime;
            self.step += 1;
        }
    }

    /// The state of a key at `now`, or nothing if no key has this ID. A key that was withdrawn is so whatever the clock
    /// says.
    #[must_use]
    pub fn state(&self, kid: &str, now: Timestamp) -> Option<KeyState> {
        self.index(kid).ok().map(|index| self.state_of(index, now))
    }

    /// When a key stops signing because another takes over, if that is past or planned.
    #[must_use]
    pub fn deactivated_at(&self, kid: &str) -> Option<Timestamp> {
        self.successor_at(self.index(kid).ok()?)
    }

    /// The key that signs at `now`. A moment in the past gives the key that signed then, while it is still there.
    ///
    /// Where no key would sign, one that begins within the spread does: the clock of the instance that wrote the first
    /// key, or the replacement of a leaked one, may be ahead of ours.
    #[must_use]
    pub fn signing_key(&self, now: Timestamp) -> Option<&Arc<SigningKey>> {
        let beginnings = || self.keys.iter().filter_map(|key| Some((key.takes_over_at()?, key)));
        let latest = beginnings().filter(|(at, _)| *at <= now).max_by_key(|(at, _)| *at);
        latest.and_then(|(_, key)| key.key.as_ref()).or_else(|| {
            let soon = beginnings().filter(|(at, _)| now < *at && *at <= now.after(self.times.spread));
            soon.min_by_key(|(at, _)| *at)?.1.key.as_ref()
        })
    }

    /// The keys that check: those that are pre-active, active or deactivated. The set also knows which keys were
    /// withdrawn, to say so when a token names one.
    #[must_use]
    pub fn key_set(&self) -> KeySet {
        let withdrawn = self.keys.iter().filter_map(|key| Some((key.kid.clone(), key.withdrawn()?.to_string())));
        KeySet::new(self.keys.iter().filter_map(|key| key.key.as_ref()).map(|key| key.verifying_key()))
            .with_withdrawn(withdrawn)
    }

    /// Publishes a key: pre-active, in the key set. Gives the earliest safe date for it to sign.
    ///
    /// # Errors
    /// If a key with its ID is or was in the keyring, or it is a shared secret among public keys or the other way about.
    pub fn publish(&mut self, key: SigningKey, now: Timestamp) -> Result<Timestamp, StepError> {
        self.admit(key.key_id(), key.algorithm(), Some(key.verifying().thumbprint()))?;
        // Rounded down, the safe dates that follow from it would be up to a second early.
        self.keys.push(KeyRecord::published(Arc::new(key), now.next_whole_sec()));
        self.step += 1;
        Ok(self.earliest_signing(&self.keys[self.keys.len() - 1]))
    }

    /// Has a published key sign from `from` on. Whatever signs until then goes on checking. Without any active key, after
    /// a compromise, a key may sign at once: better some verifiers that do not know it yet than no token at all.
    ///
    /// # Errors
    /// If there is no such key, it is not pre-active, `from` is before its earliest safe date, another key takes over in the
    /// same second, or the key has a date that is too near for all instances to learn of another.
    pub fn activate(&mut self, kid: &str, from: Timestamp, now: Timestamp) -> Result<(), StepError> {
        let index = self.index(kid)?;
        let (from, state) = (from.max(now), self.state_of(index, now));
        let signs_now = self.signing_key(now).is_some();
        // Where nothing signs, a second is not waited for.
        let from = if signs_now { from.next_whole_sec() } else { from.whole_secs() };
        if state != KeyState::PreActive {
            return Err(StepError::WrongState { kid: kid.to_owned(), step: "begin to sign", state });
        }
        let earliest = self.earliest_signing(&self.keys[index]);
        if from < earliest && signs_now {
            let published_at = self.keys[index].published_at;
            return Err(StepError::SignsTooEarly { kid: kid.to_owned(), published_at, earliest });
        }
        let soon = now.after(self.times.spread);
        if let Some(planned) = self.keys[index].active_from.filter(|planned| *planned != from && *planned <= soon) {
            return Err(StepError::SignsSoon { kid: kid.to_owned(), planned });
        }
        if let Some(other) = self.keys[index + 1..].iter().find(|key| key.takes_over_at() == Some(from)) {
            return Err(StepError::NeverSigns { kid: kid.to_owned(), other: other.kid.clone(), from });
        }
        self.keys[index].active_from = Some(from);
        self.step += 1;
        Ok(())
    }

    /// The whole rotation in one step: publishes `key` and has it sign from its earliest safe date on, which is given
    /// back.
    ///
    /// # Errors
    /// As [`publish`](Self::publish).
    pub fn roll(&mut self, key: SigningKey, now: Timestamp) -> Result<Timestamp, StepError> {
        let kid = key.key_id().to_owned();
        let earliest = self.publish(key, now)?;
        let from = if self.signing_key(now).is_some() { earliest } else { now };
        self.activate(&kid, from, now)?;
        Ok(self.keys.last().and_then(|key| key.active_from).unwrap_or(from))
    }

    /// Refuses everything a key has signed, from `now` on, and forgets the key. If it was the one that signs, nothing
    /// signs until another key is [rolled](Self::roll) in, which then takes over at once.
    ///
    /// # Errors
    /// If there is no such key, or it is compromised or destroyed already.
    pub fn compromise(&mut self, kid: &str, now: Timestamp) -> Result<(), StepError> {
        let index = self.index(kid)?;
        let state = self.state_of(index, now);
        if matches!(state, KeyState::Compromised | KeyState::Destroyed) {
            return Err(StepError::WrongState { kid: kid.to_owned(), step: "become compromised", state });
        }
        let key = &mut self.keys[index];
        (key.compromised_at, key.key) = (Some(now.whole_secs()), None);
        self.step += 1;
        Ok(())
    }

    /// The earliest date at which a key can be destroyed without a good token being refused; nothing while it is the
    /// active one and no other is to follow.
    ///
    /// # Errors
    /// If there is no such key.
    pub fn earliest_destruction(&self, kid: &str, now: Timestamp) -> Result<Option<Timestamp>, StepError> {
        let index = self.index(kid)?;
        let key = &self.keys[index];
        if key.withdrawn().is_some() {
            return Ok(Some(now));
        }
        // Another instance may take a planned key for active while this one learns of its end.
        let never_signed = key.active_from.is_none_or(|from| now.after(self.times.spread) < from);
        if never_signed {
            return Ok(Some(now));
        }
        // A verifier may accept a token for as long after its expiry as its clock skew allows.
        let KeyTimes { longest_lifetime, spread, .. } = self.times;
        let last = |at: Timestamp| at.after(longest_lifetime.as_duration()).after(LARGEST_SKEW).after(spread);
        Ok(self.successor_at(index).map(last))
    }

    /// Destroys a key: it is forgotten, and only its ID and dates stay.
    ///
    /// # Errors
    /// If there is no such key, it is destroyed already, or a token that it signed may still be good.
    pub fn destroy(&mut self, kid: &str, now: Timestamp) -> Result<(), StepError> {
        let index = self.index(kid)?;
        let (state, kid) = (self.state_of(index, now), kid.to_owned());
        if state == KeyState::Destroyed {
            return Err(StepError::WrongState { kid, step: "be destroyed", state });
        }
        let Some(earliest) = self.earliest_destruction(&kid, now)? else {
            return Err(StepError::NoSuccessor { kid });
        };
        if now < earliest {
            let deactivated_at = self.successor_at(index).unwrap_or(now);
            return Err(StepError::DestroyedTooEarly { kid, deactivated_at, earliest });
        }
        let key = &mut self.keys[index];
        (key.destroyed_at, key.key) = (Some(now.whole_secs()), None);
        self.step += 1;
        Ok(())
    }

    /// Whether a key of this ID and algorithm can be added.
    pub(super) fn admit(&self, kid: &str, algorithm: Algorithm, thumbprint: Option<&str>) -> Result<(), StepError> {
        if self.keys.iter().any(|known| known.kid == kid) {
            return Err(StepError::KnownKey { kid: kid.to_owned() });
        }
        let is_it = |known: &&KeyRecord| known.compromised_at.is_some() && known.thumbprint.as_deref() == thumbprint;
        if let Some(known) = self.keys.iter().find(is_it).filter(|_| thumbprint.is_some()) {
            return Err(StepError::Compromised { kid: kid.to_owned(), known: known.kid.clone() });
        }
        if self.keys.iter().any(|known| known.algorithm.is_symmetric() != algorithm.is_symmetric()) {
            return Err(StepError::OtherFamily { found: algorithm.name() });
        }
        Ok(())
    }

    fn index(&self, kid: &str) -> Result<usize, StepError> {
        let place = self.keys.iter().position(|key| key.kid == kid);
        place.ok_or_else(|| StepError::UnknownKey { kid: kid.to_owned() })
    }

    fn state_of(&self, index: usize, now: Timestamp) -> KeyState {
        let key = &self.keys[index];
        let by_now = |date: Option<Timestamp>| date.is_some_and(|at| at <= now);
        match key.withdrawn() {
            Some(state) => state,
            None if !by_now(key.active_from) => KeyState::PreActive,
            None if by_now(self.successor_at(index)) => KeyState::Deactivated,
            None => KeyState::Active,
        }
    }

    /// When the next key takes over from this one. Of two that begin at once the later one in the list signs.
    fn successor_at(&self, index: usize) -> Option<Timestamp> {
        let began = (self.keys[index].takes_over_at()?, index);
        let followers = self.keys.iter().enumerate().filter_map(|(index, key)| Some((key.takes_over_at()?, index)));
        followers.filter(|follower| *follower > began).min().map(|(at, _)| at)
    }

    fn earliest_signing(&self, key: &KeyRecord) -> Timestamp {
        key.published_at.after(self.times.cache_time).after(self.times.spread)
    }
}

impl From<SigningKey> for Keyring {
    /// One key that signs always, for tokens of any lifetime.
    fn from(key: SigningKey) -> Self {
        Arc::new(key).into()
    }
}

impl From<Arc<SigningKey>> for Keyring {
    /// One key that signs always, for tokens of any lifetime.
    fn from(key: Arc<SigningKey>) -> Self {
        let times = KeyTimes { longest_lifetime: Lifetime::LONGEST, ..KeyTimes::default() };
        Self::beginning(key, times, Timestamp::MIN)
    }
}
