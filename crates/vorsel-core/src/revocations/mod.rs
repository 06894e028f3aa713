//! What has been revoked or has ended, in memory, so that every request can be held against it.
//!
//! An entry says what is revoked and until when it has to be remembered: as long as a token that it concerns may live.
//! After that the token is refused for its age and the entry is forgotten, so the memory is bounded by the number of
//! revocations within one access-token lifetime.
//!
//! Readers take no lock and never wait for a writer. How the entries get here, and how old the view may be, is not this
//! module's business.

mod entry;
mod event;
mod filter;

use std::fmt;
use std::sync::atomic::{AtomicI64, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use foldhash::fast::RandomState;
use papaya::HashMap;

use crate::finding::{Check, Finding, quoted};
use crate::time::Timestamp;
use crate::token::{AccessDraft, Checked, Claims, NameHash};
pub use entry::{Revocation, Revoked, at_issuer};
pub use event::FeedEvent;
use filter::Filters;

/// What is known to be revoked. Shared between threads; reading takes no lock.
///
/// ```
/// use vorsel_core::{Revocation, Revocations, Revoked, Timestamp};
///
/// let now = Timestamp::from_secs(1_700_000_000);
/// let until = Timestamp::from_secs(1_700_000_900);
/// let revocations = Revocations::new();
/// revocations.add(&Revocation { what: Revoked::Session("s1".to_owned()), until });
/// assert!(revocations.has_ended("s1", now));
/// assert_eq!(revocations.forget(until), 1, "by then every token of the session has expired");
/// ```
pub struct Revocations {
    /// Asked first: nearly every token is let go by it.
    filter: Filters,
    /// Held by whoever adds or forgets.
    writing: Mutex<()>,
    /// How many names there may be: at least as many as there are.
    names: AtomicUsize,
    tokens: Entries<Timestamp>,
    sessions: Entries<Timestamp>,
    keys: Entries<Timestamp>,
    /// Of what was issued, by session and by subject.
    in_sessions: Entries<Within>,
    to_subjects: Entries<Within>,
    issued: Everything,
    sign_ins: Everything,
    /// The latest moment, in microseconds, among those of any session and of any subject.
    latest_in_sessions: AtomicI64,
    latest_to_subjects: AtomicI64,
}

type Entries<T> = HashMap<Box<str>, T, RandomState>;

/// Up to when what happened is meant, and until when that has to be remembered.
#[derive(Clone, Copy)]
struct Within {
    up_to: Timestamp,
    until: Timestamp,
}

/// [`Within`] for all there is, in microseconds; both only ever grow.
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
            tokens: Entries::default(),
            sessions: Entries::default(),
            keys: Entries::default(),
            in_sessions: Entries::default(),
            to_subjects: Entries::default(),
            issued: Everything::default(),
            sign_ins: Everything::default(),
            latest_in_sessions: AtomicI64::new(Timestamp::MIN.as_micros()),
            latest_to_subjects: AtomicI64::new(Timestamp::MIN.as_micros()),
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
        if let Some(name) = revocation.what.name() {
            self.filter.add(name);
        }
    }

    /// Makes the filter again from what is there, with room for so many names.
    fn rebuild_filter(&self, room: usize) {
        let (tokens, sessions, keys) = (self.tokens.pin(), self.sessions.pin(), self.keys.pin());
        let (in_sessions, to_subjects) = (self.in_sessions.pin(), self.to_subjects.pin());
        let of_tokens = tokens.keys().chain(sessions.keys()).chain(keys.keys());
        let names = of_tokens.chain(in_sessions.keys()).chain(to_subjects.keys());
        self.filter.fill(room, names.map(|name| &**name));
    }

    fn put(&self, revocation: &Revocation) {
        let until = revocation.until;
        let remember = |entries: &Entries<Timestamp>, name: &str| {
            entries.pin().update_or_insert(name.into(), |known| until.max(*known), until);
        };
        let grow = |entries: &Entries<Within>, name: &str, up_to: Timestamp, latest: &AtomicI64| {
            latest.fetch_max(up_to.as_micros(), Ordering::AcqRel);
            let new = Within { up_to, until };
            entries.pin().update_or_insert(name.into(), |known| known.and(new), new);
        };
        match &revocation.what {
            Revoked::Token(id) => remember(&self.tokens, id),
            Revoked::Session(id) => remember(&self.sessions, id),
            Revoked::Key(id) => remember(&self.keys, id),
            Revoked::IssuedInSession { session, up_to } => {
                grow(&self.in_sessions, session, *up_to, &self.latest_in_sessions);
            }
            Revoked::IssuedTo { subject, up_to } => {
                grow(&self.to_subjects, subject, *up_to, &self.latest_to_subjects);
            }
            Revoked::Issued { up_to } => self.issued.grow(*up_to, until),
            Revoked::SignIns { up_to } => self.sign_ins.grow(*up_to, until),
        }
    }

    /// Forgets what need not be remembered at `now` any more; says how many entries that were.
    pub fn forget(&self, now: Timestamp) -> usize {
        let _writing = self.writing.lock().unwrap_or_else(PoisonError::into_inner);
        let before = self.len();
        for entries in [&self.tokens, &self.sessions, &self.keys] {
            entries.pin().retain(|_, until| now < *until);
        }
        for entries in [&self.in_sessions, &self.to_subjects] {
            entries.pin().retain(|_, within| now < within.until);
        }
        let forgotten = before.saturating_sub(self.len());
        if forgotten > 0 {
            self.rebuild_filter(self.filter.room());
            self.names.store(self.len(), Ordering::Release);
        }
        forgotten
    }

    /// Whether what this says is known, for as long.
    #[must_use]
    pub fn has(&self, revocation: &Revocation) -> bool {
        let until = revocation.until;
        let named =
            |entries: &Entries<Timestamp>, name: &str| entries.pin().get(name).is_some_and(|known| until <= *known);
        let covered = |known: Within, up_to: Timestamp| up_to <= known.up_to && until <= known.until;
        let within = |entries: &Entries<Within>, name: &str, up_to| {
            entries.pin().get(name).is_some_and(|known| covered(*known, up_to))
        };
        match &revocation.what {
            Revoked::Token(id) => named(&self.tokens, id),
            Revoked::Session(id) => named(&self.sessions, id),
            Revoked::Key(id) => named(&self.keys, id),
            Revoked::IssuedInSession { session, up_to } => within(&self.in_sessions, session, *up_to),
            Revoked::IssuedTo { subject, up_to } => within(&self.to_subjects, subject, *up_to),
            Revoked::Issued { up_to } => covered(self.issued.load(), *up_to),
            Revoked::SignIns { up_to } => covered(self.sign_ins.load(), *up_to),
        }
    }

    /// What is known here and has to be remembered at `now`, but is not known there, or not for as long.
    #[must_use]
    pub fn lacking_in(&self, there: &Self, now: Timestamp) -> Vec<Revocation> {
        let mut lacking = Vec::new();
        let mut hold = |what: Revoked, here: Within, there: Within| {
            if now < here.until && (there.up_to < here.up_to || there.until < here.until) {
                lacking.push(Revocation { what, until: here.until });
            }
        };
        let mut by_name = |here: &Entries<Timestamp>, there: &Entries<Timestamp>, what: fn(String) -> Revoked| {
            let of = |until: Timestamp| Within { up_to: Timestamp::MIN, until };
            for (name, until) in &here.pin() {
                hold(what(name.to_string()), of(*until), of(there.pin().get(name).copied().unwrap_or(Timestamp::MIN)));
            }
        };
        by_name(&self.tokens, &there.tokens, Revoked::Token);
        by_name(&self.sessions, &there.sessions, Revoked::Session);
        by_name(&self.keys, &there.keys, Revoked::Key);
        let mut by_moment =
            |here: &Entries<Within>, there: &Entries<Within>, what: fn(String, Timestamp) -> Revoked| {
                let never = Within { up_to: Timestamp::MIN, until: Timestamp::MIN };
                for (name, within) in &here.pin() {
                    let there = there.pin().get(name).copied().unwrap_or(never);
                    hold(what(name.to_string(), within.up_to), *within, there);
                }
            };
        by_moment(&self.in_sessions, &there.in_sessions, |session, up_to| Revoked::IssuedInSession { session, up_to });
        by_moment(&self.to_subjects, &there.to_subjects, |subject, up_to| Revoked::IssuedTo { subject, up_to });
        let (issued, sign_ins) = (self.issued.load(), self.sign_ins.load());
        hold(Revoked::Issued { up_to: issued.up_to }, issued, there.issued.load());
        hold(Revoked::SignIns { up_to: sign_ins.up_to }, sign_ins, there.sign_ins.load());
        lacking
    }

    /// How many entries there are, besides those for all tokens and all sign-ins.
    #[must_use]
    pub fn len(&self) -> usize {
        let by_moment = self.in_sessions.len() + self.to_subjects.len();
        self.tokens.len() + self.sessions.len() + self.keys.len() + by_moment
    }

    /// Whether nothing is revoked.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0 && [&self.issued, &self.sign_ins].iter().all(|all| all.load().until == Timestamp::MIN)
    }

    /// Whether a checked token stands.
    ///
    /// # Errors
    /// The finding `revoked`, with what is.
    pub fn check<C>(&self, token: &Checked<C>, now: Timestamp) -> Result<(), Box<Finding>> {
        match self.found(token, now) {
            None => Ok(()),
            Some(found) => Err(Box::new(Finding {
                check: Check::Revocation,
                held: false,
                expected: "a token that stands".to_owned(),
                found,
            })),
        }
    }

    /// Whether a checked token of another issuer stands: its names are its issuer's, so what is revoked of our people and sessions says
    /// nothing of it. What is [revoked at that issuer](at_issuer) does, and so does a revocation of all tokens that were issued.
    ///
    /// # Errors
    /// The finding `revoked`, with what is.
    pub fn check_of<C>(&self, issuer: &str, token: &Checked<C>, now: Timestamp) -> Result<(), Box<Finding>> {
        match self.found_of(issuer, token.claims(), token.key_id(), now) {
            None => Ok(()),
            Some(found) => Err(Box::new(Finding {
                check: Check::Revocation,
                held: false,
                expected: "a token that stands".to_owned(),
                found: format!("{found}, of the issuer {}", quoted(issuer)),
            })),
        }
    }

    fn found_of(&self, issuer: &str, claims: &Claims, key_id: Option<&str>, now: Timestamp) -> Option<String> {
        let issued = self.issued.load();
        if issued.covers(claims.issued_at(), now) {
            return Some(format!("all tokens issued up to {} revoked", issued.up_to));
        }
        if self.names.load(Ordering::Acquire) == 0 {
            return None;
        }
        let named = |name: Option<&str>| name.map(|name| at_issuer(issuer, name));
        let (session, id, subject) = (named(claims.session_id()), named(claims.id()), named(claims.subject()));
        for (entries, name, what) in [
            (&self.keys, named(key_id), "key"),
            (&self.sessions, session.clone(), "session"),
            (&self.tokens, id, "jti"),
        ] {
            if name.is_some_and(|name| is_in(entries, &name, now)) {
                return Some(format!("its {what} revoked"));
            }
        }
        let anybody = named(Some(""));
        [(&self.to_subjects, subject), (&self.to_subjects, anybody), (&self.in_sessions, session)].into_iter().find_map(
            |(entries, name)| {
                let entries = entries.pin();
                let within = entries.get(name?.as_str()).filter(|within| within.covers(claims.issued_at(), now))?;
                Some(format!("the tokens issued up to {} revoked", within.up_to))
            },
        )
    }

    fn found<C>(&self, token: &Checked<C>, now: Timestamp) -> Option<String> {
        let claims = token.claims();
        let (issued, sign_ins) = (self.issued.load(), self.sign_ins.load());
        if issued.covers(claims.issued_at(), now) {
            return Some(format!("all tokens issued up to {} revoked", issued.up_to));
        }
        let began_at = || claims.session_at().or(claims.authenticated_at()).or(claims.issued_at());
        if claims.session_id().is_some() && sign_ins.covers(began_at(), now) {
            return Some(format!("all sessions of sign-ins up to {} ended", sign_ins.up_to));
        }
        if self.names.load(Ordering::Acquire) == 0 {
            return None;
        }
        let filter = self.filter.current();
        let may_have = |name: Option<NameHash>| name.is_some_and(|name| filter.may_have(name));
        // Each is looked at, so that none waits for the memory of another.
        let may_be_named = token.name_hashes().into_iter().fold(false, |any, name| any | may_have(name));
        if may_be_named { self.found_by_name(claims, token.key_id(), now) } else { None }
    }

    #[cold]
    fn found_by_name(&self, claims: &Claims, key_id: Option<&str>, now: Timestamp) -> Option<String> {
        if let Some(id) = key_id.filter(|id| is_in(&self.keys, id, now)) {
            return Some(format!("its key {} revoked", quoted(id)));
        }
        if let Some(id) = claims.session_id().filter(|id| is_in(&self.sessions, id, now)) {
            return Some(format!("its session {} ended", quoted(id)));
        }
        if let Some(id) = claims.id().filter(|id| is_in(&self.tokens, id, now)) {
            return Some(format!("its jti {} revoked", quoted(id)));
        }
        let issued_before = |entries: &Entries<Within>, name: Option<&str>, of_what: &str| {
            let (name, entries) = (name?, entries.pin());
            let within = entries.get(name).filter(|within| within.covers(claims.issued_at(), now))?;
            Some(format!("the tokens of {of_what}{} issued up to {} revoked", quoted(name), within.up_to))
        };
        issued_before(&self.to_subjects, claims.subject(), "")
            .or_else(|| issued_before(&self.in_sessions, claims.session_id(), "session "))
    }

    /// When a token of this draft is to be issued at the earliest, and not before `now`: after all that is known to be
    /// revoked by moment, whatever the clock says and although tokens count whole seconds. Else the client would be given
    /// what is refused.
    #[must_use]
    pub fn issued_from<C>(&self, draft: &AccessDraft<C>, now: Timestamp) -> Timestamp {
        let of = |entries: &Entries<Within>, name: &str| entries.pin().get(name).map(|within| within.after(now));
        let all = self.issued.load().after(now);
        if self.names.load(Ordering::Acquire) == 0 {
            return all;
        }
        let subject = of(&self.to_subjects, draft.subject());
        let session = draft.session_id().and_then(|id| of(&self.in_sessions, id));
        [subject, session].into_iter().flatten().fold(all, Timestamp::max)
    }

    /// The moment up to which tokens may have been issued by `now` of those that `what` is about, a kind that has a moment: what
    /// was [issued after](Self::issued_from) a moment of this very second lies in the next one, and is meant as well.
    #[must_use]
    pub fn issued_up_to(&self, what: &Revoked, now: Timestamp) -> Timestamp {
        let latest = |of: &AtomicI64| Timestamp::from_micros(of.load(Ordering::Acquire));
        let known = |entries: &Entries<Within>, name: &str| {
            entries.pin().get(name).map_or(Timestamp::MIN, |within| within.up_to)
        };
        // Nobody here knows which session is whose.
        let known = match what {
            Revoked::IssuedInSession { session, .. } => {
                known(&self.in_sessions, session).max(latest(&self.latest_to_subjects))
            }
            Revoked::IssuedTo { subject, .. } => {
                known(&self.to_subjects, subject).max(latest(&self.latest_in_sessions))
            }
            _ => latest(&self.latest_in_sessions).max(latest(&self.latest_to_subjects)),
        };
        let known = known.max(self.issued.load().up_to).whole_secs();
        if known < now.whole_secs() { now } else { known.after(Duration::from_secs(1)) }
    }

    /// When a session is to begin at the earliest, and not before `now`: after all sign-ins that are known to have ended.
    #[must_use]
    pub fn sign_in_from(&self, now: Timestamp) -> Timestamp {
        self.sign_ins.load().after(now)
    }

    /// Whether the session with this `sid` is known to have ended.
    #[must_use]
    pub fn has_ended(&self, session: &str, now: Timestamp) -> bool {
        is_in(&self.sessions, session, now)
    }

    /// Whether a session that began at this moment is known to have ended with all others of its time.
    #[must_use]
    pub fn ended_with_others(&self, started_at: Timestamp, now: Timestamp) -> bool {
        self.sign_ins.load().covers(Some(started_at), now)
    }
}

impl Default for Revocations {
    fn default() -> Self {
        Self::new()
    }
}

fn is_in(entries: &Entries<Timestamp>, name: &str, now: Timestamp) -> bool {
    entries.pin().get(name).is_some_and(|until| now < *until)
}

impl Everything {
    fn grow(&self, up_to: Timestamp, until: Timestamp) {
        // The other order would let a reader see the new moment with the old end.
        self.until.fetch_max(until.as_micros(), Ordering::AcqRel);
        self.up_to.fetch_max(up_to.as_micros(), Ordering::AcqRel);
    }

    fn load(&self) -> Within {
        let time = |micros: &AtomicI64| Timestamp::from_micros(micros.load(Ordering::Acquire));
        Within { up_to: time(&self.up_to), until: time(&self.until) }
    }
}

impl Within {
    fn and(self, other: Self) -> Self {
        Self { up_to: self.up_to.max(other.up_to), until: self.until.max(other.until) }
    }

    /// The first moment from `now` on that is not meant.
    fn after(self, now: Timestamp) -> Timestamp {
        let is_remembered = now < self.until;
        if is_remembered { now.max(self.up_to.whole_secs().after(Duration::from_secs(1))) } else { now }
    }

    /// What does not say when it was is from long ago.
    fn covers(self, when: Option<Timestamp>, now: Timestamp) -> bool {
        now < self.until && when.unwrap_or(Timestamp::MIN).whole_secs() <= self.up_to.whole_secs()
    }
}

impl fmt::Debug for Revocations {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Revocations")
            .field("tokens", &self.tokens.len())
            .field("sessions", &self.sessions.len())
            .field("in_sessions", &self.in_sessions.len())
            .field("to_subjects", &self.to_subjects.len())
            .field("keys", &self.keys.len())
            .finish_non_exhaustive()
    }
}
