//! What has been revoked, in memory, so that every request can be held against it.
//!
//! An entry says what is revoked and until when it has to be remembered: as long as a token that it concerns may live.
//! After that the token is refused for its age and the entry is forgotten, so the memory is bounded by the number of
//! revocations within one access-token lifetime.
//!
//! Readers take no lock and never wait for a writer. How the entries get here, and how old the view may be, is not this
//! module's business.

mod filter;

use std::fmt;
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

use foldhash::fast::RandomState;
use papaya::HashMap;

use crate::finding::{Check, Finding, quoted};
use crate::time::Timestamp;
use crate::token::{Checked, Claims};
use filter::Filters;

/// What is revoked.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Revoked {
    /// The token with this `jti`.
    Token(String),
    /// Every token of the session with this `sid`.
    Session(String),
    /// The tokens of one subject whose caller authenticated no later than `up_to`.
    Subject {
        /// The subject, `sub`.
        subject: String,
        /// Up to when, in whole seconds: of what happened within one second nobody can tell what came first.
        up_to: Timestamp,
    },
    /// Every token whose caller authenticated no later than `up_to`.
    Everything {
        /// Up to when, in whole seconds.
        up_to: Timestamp,
    },
    /// Every token that the key with this ID signed.
    Key(String),
}

/// One entry of the feed.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Revocation {
    /// What is revoked.
    pub what: Revoked,
    /// Until when it has to be remembered.
    pub until: Timestamp,
}

/// What is known to be revoked. Shared between threads; reading takes no lock.
pub struct Revocations {
    /// Asked first: nearly every token is let go by it.
    filter: Filters,
    /// Held by whoever adds or forgets.
    writing: Mutex<()>,
    /// How many names there may be: at least as many as there are.
    names: AtomicUsize,
    /// Whether there was ever a key among them; they are few, and not in the filter.
    has_keys: AtomicBool,
    tokens: Entries<Timestamp>,
    sessions: Entries<Timestamp>,
    keys: Entries<Timestamp>,
    subjects: Entries<Within>,
    everything: Everything,
}

type Entries<T> = HashMap<Box<str>, T, RandomState>;

/// Which sign-ins are meant, and until when that has to be remembered.
#[derive(Clone, Copy)]
struct Within {
    up_to: Timestamp,
    until: Timestamp,
}

/// [`Within`] for everybody, in microseconds; both only ever grow.
struct Everything {
    up_to: AtomicI64,
    until: AtomicI64,
}

impl Default for Everything {
    fn default() -> Self {
        let never = || AtomicI64::new(Timestamp::MIN.as_micros());
        Self { up_to: never(), until: never() }
    }
}

impl Revocations {
    /// Nothing is revoked.
    #[must_use]
    pub fn new() -> Self {
        Self {
            filter: Filters::new(),
            writing: Mutex::new(()),
            names: AtomicUsize::new(0),
            has_keys: AtomicBool::new(false),
            tokens: Entries::default(),
            sessions: Entries::default(),
            keys: Entries::default(),
            subjects: Entries::default(),
            everything: Everything::default(),
        }
    }

    /// Adds an entry. What is there already stays, for the longer of the two times.
    pub fn add(&self, revocation: &Revocation) {
        let _writing = self.writing.lock().unwrap_or_else(PoisonError::into_inner);
        self.names.fetch_add(1, Ordering::AcqRel);
        self.put(revocation);
        if self.len() > self.filter.room() {
            self.rebuild_filter(self.len() * 2);
            return;
        }
        match &revocation.what {
            Revoked::Token(name) | Revoked::Session(name) => self.filter.add(name),
            Revoked::Subject { subject, .. } => self.filter.add(subject),
            Revoked::Key(_) | Revoked::Everything { .. } => {}
        }
    }

    /// Makes the filter again from what is there, with room for so many names.
    fn rebuild_filter(&self, room: usize) {
        let (tokens, sessions, subjects) = (self.tokens.pin(), self.sessions.pin(), self.subjects.pin());
        let names = tokens.keys().chain(sessions.keys()).chain(subjects.keys());
        self.filter.fill(room, names.map(|name| &**name));
    }

    fn put(&self, revocation: &Revocation) {
        let until = revocation.until;
        let remember = |entries: &Entries<Timestamp>, name: &str| {
            entries.pin().update_or_insert(name.into(), |known| until.max(*known), until);
        };
        match &revocation.what {
            Revoked::Token(id) => remember(&self.tokens, id),
            Revoked::Session(id) => remember(&self.sessions, id),
            Revoked::Key(id) => {
                remember(&self.keys, id);
                self.has_keys.store(true, Ordering::Release);
            }
            Revoked::Subject { subject, up_to } => {
                let new = Within { up_to: *up_to, until };
                self.subjects.pin().update_or_insert(subject.as_str().into(), |known| known.and(new), new);
            }
            Revoked::Everything { up_to } => {
                // The other order would let a reader see the new moment with the old end.
                self.everything.until.fetch_max(until.as_micros(), Ordering::AcqRel);
                self.everything.up_to.fetch_max(up_to.as_micros(), Ordering::AcqRel);
            }
        }
    }

    /// Forgets what need not be remembered at `now` any more; says how many entries that were.
    pub fn forget(&self, now: Timestamp) -> usize {
        let _writing = self.writing.lock().unwrap_or_else(PoisonError::into_inner);
        let before = self.len();
        for entries in [&self.tokens, &self.sessions, &self.keys] {
            entries.pin().retain(|_, until| now < *until);
        }
        self.subjects.pin().retain(|_, within| now < within.until);
        let forgotten = before.saturating_sub(self.len());
        if forgotten > 0 {
            self.rebuild_filter(self.filter.room());
            self.names.store(self.len(), Ordering::Release);
        }
        forgotten
    }

    /// How many entries there are, besides the one for everything.
    #[must_use]
    pub fn len(&self) -> usize {
        self.tokens.len() + self.sessions.len() + self.keys.len() + self.subjects.len()
    }

    /// Whether nothing is revoked.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0 && self.everything.until.load(Ordering::Acquire) == Timestamp::MIN.as_micros()
    }

    /// Whether a checked token stands.
    ///
    /// # Errors
    /// The finding `revoked`, with what is.
    pub fn check<C>(&self, token: &Checked<C>, now: Timestamp) -> Result<(), Box<Finding>> {
        match self.found(token.claims(), token.key_id(), now) {
            None => Ok(()),
            Some(found) => Err(Box::new(Finding {
                check: Check::Revocation,
                held: false,
                expected: "a token that stands".to_owned(),
                found,
            })),
        }
    }

    fn found(&self, claims: &Claims, key_id: Option<&str>, now: Timestamp) -> Option<String> {
        let everything = self.everything.load();
        if everything.covers(claims, now) {
            return Some(format!("all sign-ins up to {} revoked", everything.up_to));
        }
        if self.names.load(Ordering::Acquire) == 0 {
            return None;
        }
        let filter = self.filter.current();
        let named = [claims.session_id(), claims.id(), claims.subject()];
        // Each is looked at, so that none waits for the memory of another.
        let may_be = named.map(|name| name.is_some_and(|name| filter.may_have(name)));
        let is_in =
            |entries: &Entries<Timestamp>, name: &str| entries.pin().get(name).is_some_and(|until| now < *until);
        if self.has_keys.load(Ordering::Acquire)
            && let Some(id) = key_id.filter(|id| is_in(&self.keys, id))
        {
            return Some(format!("its key {} revoked", quoted(id)));
        }
        if may_be == [false; 3] {
            return None;
        }
        if let Some(id) = claims.session_id().filter(|id| is_in(&self.sessions, id)) {
            return Some(format!("its session {} revoked", quoted(id)));
        }
        if let Some(id) = claims.id().filter(|id| is_in(&self.tokens, id)) {
            return Some(format!("its jti {} revoked", quoted(id)));
        }
        let subjects = self.subjects.pin();
        let (subject, within) = claims.subject().and_then(|subject| Some((subject, subjects.get(subject)?)))?;
        within
            .covers(claims, now)
            .then(|| format!("the sign-ins of {} up to {} revoked", quoted(subject), within.up_to))
    }
}

impl Default for Revocations {
    fn default() -> Self {
        Self::new()
    }
}

impl Everything {
    fn load(&self) -> Within {
        let time = |micros: &AtomicI64| Timestamp::from_micros(micros.load(Ordering::Acquire));
        Within { up_to: time(&self.up_to), until: time(&self.until) }
    }
}

impl Within {
    fn and(self, other: Self) -> Self {
        Self { up_to: self.up_to.max(other.up_to), until: self.until.max(other.until) }
    }

    /// Without `auth_time` a token counts by `iat`, and without that as one from long ago.
    fn covers(self, claims: &Claims, now: Timestamp) -> bool {
        let since = claims.authenticated_at().or(claims.issued_at()).unwrap_or(Timestamp::MIN);
        now < self.until && since.whole_secs() <= self.up_to.whole_secs()
    }
}

impl fmt::Debug for Revocations {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Revocations")
            .field("tokens", &self.tokens.len())
            .field("sessions", &self.sessions.len())
            .field("subjects", &self.subjects.len())
            .field("keys", &self.keys.len())
            .finish_non_exhaustive()
    }
}
