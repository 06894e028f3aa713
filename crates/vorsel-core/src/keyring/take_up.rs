//! A keyring that was read again, held against what is known: an older copy, or new keys where the folder was lost, make
//! nobody forget a withdrawal or a key that signs.

use std::fmt;

use super::record::KeyRecord;
use super::ring::Keyring;
use crate::time::Timestamp;

/// A keyring that was read, with what it lacked of the one known before.
///
/// ```
/// use vorsel_core::{Algorithm, Kept, KeyTimes, Keyring, SigningKey, Timestamp};
///
/// let now = Timestamp::from_secs(1_700_000_000);
/// let restored = Keyring::new(SigningKey::generate(Algorithm::EdDsa)?.named("first"), KeyTimes::default(), now);
/// let mut running = restored.clone();
/// running.roll(SigningKey::generate(Algorithm::EdDsa)?.named("second"), now)?;
/// let taken = running.taking_up(restored, now);
/// assert_eq!(taken.ring.keys().len(), 2, "an older copy of the file makes nobody forget a key");
/// assert!(matches!(&taken.kept[0], Kept::Key { kid } if kid == "second"));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
pub struct TakenUp {
    /// The keyring to go by.
    pub ring: Keyring,
    /// What was kept, since what was read lacked it; nothing where what was read goes on from what was known.
    pub kept: Vec<Kept>,
}

/// What is kept of the keyring that was known before.
///
/// ```
/// use vorsel_core::Kept;
///
/// fn told(kept: &Kept) -> String {
///     match kept {
///         Kept::Withdrawal { kid } => format!("the file has forgotten that {kid} is withdrawn"),
///         Kept::Key { kid } => format!("the file lacks {kid}"),
///         other => format!("{other:?}"),
///     }
/// }
/// assert_eq!(told(&Kept::Key { kid: "second".to_owned() }), "the file lacks second");
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Kept {
    /// A key, with its dates.
    Key {
        /// Its ID.
        kid: String,
    },
    /// That the key was withdrawn.
    Withdrawal {
        /// Its ID.
        kid: String,
    },
    /// When the key begins to sign.
    Date {
        /// Its ID.
        kid: String,
        /// The date.
        from: Timestamp,
    },
    /// All of it: what was read are public keys where there were shared secrets, or the other way about, or none.
    Family,
    /// The key that has this ID, not the other one that was read.
    Name {
        /// Its ID.
        kid: String,
    },
}

impl fmt::Display for Kept {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Key { kid } => write!(f, "key {kid:?} is not there any more"),
            Self::Withdrawal { kid } => write!(f, "key {kid:?} is there again, though it was withdrawn"),
            Self::Date { kid, from } => write!(f, "key {kid:?} has another date to sign from than {from}"),
            Self::Family => f.write_str("keys of another family, or none, are there"),
            Self::Name { kid } => write!(f, "another key is called {kid:?} there"),
        }
    }
}

impl Keyring {
    /// What to go by at `now` after this keyring, which is known, was read again as `read`. Steps that others have taken are
    /// taken up. What `read` lacks is kept, and told: no withdrawal is forgotten, no key is lost, and where `read` lacks the
    /// key that signs, its own begin to sign only when every verifier can know them.
    ///
    /// A keyring that goes on from this one has everything that this one has.
    #[must_use]
    pub fn taking_up(&self, read: Self, now: Timestamp) -> TakenUp {
        let is_symmetric = |ring: &Self| ring.keys.first().map(|key| key.algorithm.is_symmetric());
        if is_symmetric(self) != is_symmetric(&read) {
            let step = self.step.max(read.step) + 1;
            return TakenUp { ring: Self { step, ..self.clone() }, kept: vec![Kept::Family] };
        }
        let is_later = read.step > self.step;
        let mut kept = Vec::new();
        let signing = self.signing_key(now).map(|key| key.key_id());
        let is_lost = signing.is_some_and(|kid| read.record(kid).is_none());
        // Where two begin at once, the later one in the list signs; so all instances have them in one order.
        let (first, then) = if is_later { (&read, self) } else { (self, &read) };
        let others = then.keys.iter().filter(|key| first.record(&key.kid).is_none());
        let taken = first.keys.iter().chain(others).map(|key| match (self.record(&key.kid), read.record(&key.kid)) {
            (Some(known), Some(read)) => known.taking_up(read.clone(), is_later, &mut kept),
            (Some(known), None) => {
                kept.push(Kept::Key { kid: known.kid.clone() });
                known.clone()
            }
            _ => self.taking_up_new(key.clone(), is_lost.then_some(now), &mut kept),
        });
        let keys = taken.collect();
        let mut ring = Self { keys, times: read.times, step: read.step };
        let longest = self.times.longest_lifetime.max(ring.times.longest_lifetime);
        ring.times = if is_later { ring.times } else { self.times };
        ring.times.longest_lifetime = longest;
        // Whoever reads what is written now takes all of it up.
        ring.step = if kept.is_empty() { ring.step.max(self.step) } else { ring.step.max(self.step) + 1 };
        TakenUp { ring, kept }
    }
}

impl Keyring {
    fn record(&self, kid: &str) -> Option<&KeyRecord> {
        self.keys.iter().find(|key| key.kid == kid)
    }

    fn taking_up_new(&self, mut new: KeyRecord, lost_at: Option<Timestamp>, kept: &mut Vec<Kept>) -> KeyRecord {
        let is_it = |known: &&KeyRecord| known.compromised_at.is_some() && known.thumbprint == new.thumbprint;
        if let Some(known) = self.keys.iter().find(is_it).filter(|known| known.thumbprint.is_some()) {
            kept.push(Kept::Withdrawal { kid: new.kid.clone() });
            (new.compromised_at, new.key) = (known.compromised_at, None);
        }
        // Whoever asks a running instance for the key set can know the key from now on.
        if let (Some(now), Some(from)) = (lost_at, new.active_from) {
            let known_at = now.next_whole_sec().max(new.published_at);
            new.active_from = Some(from.max(known_at.after(self.times.cache_time).after(self.times.spread)));
        }
        new
    }
}

impl KeyRecord {
    fn taking_up(&self, read: Self, is_later: bool, kept: &mut Vec<Kept>) -> Self {
        let kid = || self.kid.clone();
        if self.thumbprint.is_some() && read.thumbprint.is_some() && self.thumbprint != read.thumbprint {
            kept.push(Kept::Name { kid: kid() });
            return self.clone();
        }
        let mut taken = self.clone();
        taken.compromised_at = self.compromised_at.or(read.compromised_at);
        taken.destroyed_at = self.destroyed_at.or(read.destroyed_at);
        if self.withdrawn().is_some() && read.withdrawn().is_none() {
            kept.push(Kept::Withdrawal { kid: kid() });
        }
        taken.key = if taken.withdrawn().is_some() { None } else { read.key };
        let planned = self.active_from.filter(|_| !is_later || read.active_from.is_none());
        taken.active_from = planned.or(read.active_from);
        if let Some(from) = planned.filter(|_| planned != read.active_from) {
            kept.push(Kept::Date { kid: kid(), from });
        }
        taken
    }
}
