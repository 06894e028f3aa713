//! The ready throttle: in memory, for one instance.

use std::collections::{HashMap, VecDeque};
use std::fmt;
use std::hash::{BuildHasher, RandomState};
use std::net::{IpAddr, Ipv6Addr};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use aws_lc_rs::hmac;
use vorsel_core::{Secret, base64url};

use super::budget::Budget;
use super::table::Table;
use super::{Attempt, Passed, Throttle, Who};
use crate::clock::{Clock, SystemClock};
use crate::random::{RandomError, random_bytes, random_id};

/// How many failures there may be.
///
/// ```
/// use std::time::Duration;
/// use vorsel::{Budget, MemoryThrottle, ThrottleLimits};
///
/// let limits = ThrottleLimits { subject: Budget::new(5, Duration::from_secs(300)), ..ThrottleLimits::default() };
/// let throttle = MemoryThrottle::with(limits)?;
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ThrottleLimits {
    /// Of one subject, known or not, from wherever.
    pub subject: Budget,
    /// From one address, an IPv6 network of 64 bits being one, about whomever.
    pub address: Budget,
    /// Of one client with credentials of its own.
    pub client: Budget,
    /// From an address or a device that got in before as that subject or client, once another budget is spent.
    pub known: Budget,
    /// How many of each kind are remembered; those make way whose failures are forgotten first.
    pub most: usize,
}

impl Default for ThrottleLimits {
    /// 10 a subject and one more a minute; 100 an address, 10 more a minute; 20 a client, 2 more a minute; 10 where one got in before, one
    /// more a minute; 65,536 of each.
    fn default() -> Self {
        let minute = Duration::from_secs(60);
        Self {
            subject: Budget::new(10, minute),
            address: Budget::new(100, minute / 10),
            client: Budget::new(20, minute / 2),
            known: Budget::new(10, minute),
            most: 65_536,
        }
    }
}

/// Whom or where failures are counted for: a hash under a key that nobody outside knows, so that a key takes 8 bytes whatever was typed,
/// and nobody can make two fall together.
type Key = u64;

/// Counts failures in memory; each instance has its own counts. Memory is bounded, however many try: seven tables
/// of 17 bytes a place, which by the usual limits come to some 15 MB when all are full.
///
/// Once the budget of a subject or of an address is spent, only those still try who got in as that subject before, from the same address or
/// by showing the mark that was given to their device then; so whoever guesses can't lock the owner out.
///
/// ```
/// use vorsel::{MemoryThrottle, Secret};
///
/// let shared = Secret::new((0..32).collect()); // the same for all instances: a device that is known to one is to all
/// let throttle = MemoryThrottle::new()?.mark_key(&shared);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub struct MemoryThrottle {
    hasher: RandomState,
    people: Table<Key>,
    clients: Table<Key>,
    addresses: Table<Key>,
    known: Table<Key>,
    places: Mutex<Places>,
    marks: hmac::Key,
}

/// Where somebody got in: of whom and from which address, and from which address at all.
struct Places {
    order: VecDeque<(Key, Key)>,
    got_in: HashMap<(Key, Key), ()>,
    addresses: HashMap<Key, usize>,
    most: usize,
}

impl MemoryThrottle {
    /// With the usual [limits](ThrottleLimits::default).
    ///
    /// # Errors
    /// If the operating system gives no randomness.
    pub fn new() -> Result<Self, RandomError> {
        Self::with(ThrottleLimits::default())
    }

    /// With these limits. Marks are good at this instance, until it ends; see [`mark_key`](Self::mark_key).
    ///
    /// # Errors
    /// If the operating system gives no randomness.
    pub fn with(limits: ThrottleLimits) -> Result<Self, RandomError> {
        Self::by(limits, Arc::new(SystemClock))
    }

    /// [`with`](Self::with) by another clock than the machine's, for tests.
    ///
    /// # Errors
    /// If the operating system gives no randomness.
    pub fn by(limits: ThrottleLimits, clock: Arc<dyn Clock>) -> Result<Self, RandomError> {
        let mut bytes = zeroize::Zeroizing::new([0; 32]);
        random_bytes(&mut *bytes)?;
        let ThrottleLimits { subject, address, client, known, most } = limits;
        Ok(Self {
            hasher: RandomState::new(),
            people: Table::new(subject, most, &clock),
            clients: Table::new(client, most, &clock),
            addresses: Table::new(address, most, &clock),
            known: Table::new(known, most, &clock),
            places: Mutex::new(Places {
                order: VecDeque::new(),
                got_in: HashMap::new(),
                addresses: HashMap::new(),
                most: most.max(1),
            }),
            marks: hmac::Key::new(hmac::HMAC_SHA256, &*bytes),
        })
    }

    /// Makes marks with this secret of 32 bytes or more, so that they are good at every instance that has it, and after a restart.
    #[must_use]
    pub fn mark_key(mut self, secret: &Secret) -> Self {
        self.marks = hmac::Key::new(hmac::HMAC_SHA256, secret.reveal());
        self
    }

    fn key(&self, kind: &str, text: &str) -> Key {
        self.hasher.hash_one((kind, text))
    }

    fn who(&self, who: Who<'_>) -> (Key, &Table<Key>) {
        match who {
            Who::Subject(subject) => (self.key("subject", subject), &self.people),
            Who::Client(client) => (self.key("client", client), &self.clients),
        }
    }

    /// An IPv6 customer has a network, not an address.
    fn address(&self, address: IpAddr) -> Key {
        let address = match address.to_canonical() {
            IpAddr::V6(address) => IpAddr::V6(Ipv6Addr::from_bits(address.to_bits() >> 64 << 64)),
            address => address,
        };
        self.hasher.hash_one(("address", address))
    }

    /// By what the attempt is known, if it is: its device or its address.
    fn known_as(&self, attempt: &Attempt<'_>) -> Option<Key> {
        let who = attempt.who?;
        let (key, _) = self.who(who);
        let by_mark = attempt.mark.filter(|mark| self.is_mark_of(who, mark)).map(|mark| self.key("mark", mark));
        by_mark.or_else(|| {
            let address = self.address(attempt.address?);
            let is_known = self.places().got_in.contains_key(&(key, address));
            is_known.then(|| self.hasher.hash_one((key, address)))
        })
    }

    fn mark(&self, who: Who<'_>) -> Option<String> {
        let id = random_id().ok()?;
        Some(format!("{id}.{}", base64url::encode(hmac::sign(&self.marks, said(who, &id).as_bytes()))))
    }

    fn is_mark_of(&self, who: Who<'_>, mark: &str) -> bool {
        let Some((id, tag)) = mark.split_once('.') else { return false };
        let Ok(tag) = base64url::decode(tag) else { return false };
        id.len() <= 64 && hmac::verify(&self.marks, said(who, id).as_bytes(), &tag).is_ok()
    }

    fn places(&self) -> std::sync::MutexGuard<'_, Places> {
        self.places.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// What a mark says: nobody's name has the first byte of another's kind.
fn said(who: Who<'_>, id: &str) -> String {
    match who {
        Who::Subject(subject) => format!("s{id}.{subject}"),
        Who::Client(client) => format!("c{id}.{client}"),
    }
}

impl Places {
    fn remember(&mut self, who: Key, address: Key) {
        if self.got_in.insert((who, address), ()).is_some() {
            return;
        }
        *self.addresses.entry(address).or_default() += 1;
        self.order.push_back((who, address));
        while self.order.len() > self.most
            && let Some(first) = self.order.pop_front()
        {
            self.got_in.remove(&first);
            if let Some(count) = self.addresses.get_mut(&first.1) {
                *count -= 1;
                if *count == 0 {
                    self.addresses.remove(&first.1);
                }
            }
        }
    }
}

impl Throttle for MemoryThrottle {
    fn admits(&self, attempt: &Attempt<'_>) -> Result<(), Duration> {
        let address = attempt.address.map(|address| self.address(address));
        let of_address = address.map_or(Ok(()), |address| self.addresses.has_left(&address));
        let of_who = attempt.who.map(|who| self.who(who)).map_or(Ok(()), |(key, table)| table.has_left(&key));
        let Err(wait) = of_address.and(of_who) else { return Ok(()) };
        if attempt.who.is_some() {
            return self.known_as(attempt).map_or(Err(wait), |known| self.known.has_left(&known));
        }
        let may_be_known = || address.is_some_and(|address| self.places().addresses.contains_key(&address));
        if attempt.mark.is_some() || may_be_known() { Ok(()) } else { Err(wait) }
    }

    fn reserve(&self, attempt: &Attempt<'_>) -> Result<Passed, Duration> {
        let who = attempt.who.map(|who| self.who(who));
        let address = attempt.address.map(|address| self.address(address));
        let of_who = who.map_or(Ok(()), |(key, table)| table.count(&key));
        let of_address = match of_who {
            Ok(()) => address.map_or(Ok(()), |address| self.addresses.count(&address)),
            Err(_) => Ok(()),
        };
        let wait = match (of_who, of_address) {
            (Ok(()), Ok(())) => return Ok(Passed::AsAnybody),
            (Ok(()), Err(wait)) => {
                if let Some((key, table)) = who {
                    table.give_back(&key);
                }
                wait
            }
            (Err(wait), _) => wait,
        };
        let known = self.known_as(attempt).ok_or(wait)?;
        self.known.count(&known)?;
        Ok(Passed::AsKnown)
    }

    fn succeeded(&self, attempt: &Attempt<'_>, passed: Passed) -> Option<String> {
        self.give_back(attempt, passed);
        self.got_in(attempt);
        let who = attempt.who?;
        // A device that has a mark keeps it, with the budget of its own.
        let has_mark = attempt.mark.is_some_and(|mark| self.is_mark_of(who, mark));
        if has_mark { None } else { self.mark(who) }
    }

    fn give_back(&self, attempt: &Attempt<'_>, passed: Passed) {
        match passed {
            Passed::AsKnown => {
                if let Some(known) = self.known_as(attempt) {
                    self.known.give_back(&known);
                }
            }
            Passed::AsAnybody => {
                if let Some((key, table)) = attempt.who.map(|who| self.who(who)) {
                    table.give_back(&key);
                }
                if let Some(address) = attempt.address {
                    self.addresses.give_back(&self.address(address));
                }
            }
        }
    }

    fn failed(&self, attempt: &Attempt<'_>) {
        let of_who = attempt.who.map(|who| self.who(who)).map_or(Ok(()), |(key, table)| table.count(&key));
        let address = attempt.address.map(|address| self.address(address));
        let of_address = address.map_or(Ok(()), |address| self.addresses.count(&address));
        if of_who.and(of_address).is_err()
            && let Some(known) = self.known_as(attempt)
        {
            let _ = self.known.count(&known);
        }
    }

    fn got_in(&self, attempt: &Attempt<'_>) {
        if let (Some(who), Some(address)) = (attempt.who, attempt.address) {
            self.places().remember(self.who(who).0, self.address(address));
        }
    }
}

impl fmt::Debug for MemoryThrottle {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("MemoryThrottle").finish_non_exhaustive()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::sync::atomic::{AtomicI64, Ordering};
    use vorsel_core::Timestamp;

    #[derive(Debug, Default)]
    struct Hand(AtomicI64);

    impl Clock for Hand {
        fn now(&self) -> Timestamp {
            Timestamp::from_secs(1_700_000_000)
                .after(Duration::from_secs(self.0.load(Ordering::Relaxed).unsigned_abs()))
        }
    }

    fn throttle(most: usize) -> (MemoryThrottle, Arc<Hand>) {
        let clock = Arc::new(Hand::default());
        let second = Duration::from_secs(1);
        let (few, many) = (Budget::new(3, second), Budget::new(5, second));
        let limits = ThrottleLimits { subject: few, address: many, client: few, known: Budget::new(2, second), most };
        (MemoryThrottle::by(limits, clock.clone()).expect("randomness"), clock)
    }

    fn attempt<'a>(subject: &'a str, last: u8, mark: Option<&'a str>) -> Attempt<'a> {
        Attempt { address: Some([10, 0, 0, last].into()), who: Some(Who::Subject(subject)), mark }
    }

    #[test]
    fn failures_count_until_the_budget_is_spent_and_come_back_with_time() {
        let (throttle, clock) = throttle(100);
        for last in 0..3 {
            assert_eq!(throttle.reserve(&attempt("obs-0017", last, None)), Ok(Passed::AsAnybody));
        }
        let wait = throttle.reserve(&attempt("obs-0017", 9, None)).expect_err("spent");
        assert!(wait > Duration::ZERO && wait <= Duration::from_secs(1), "{wait:?}");
        assert!(throttle.reserve(&attempt("ope-0002", 9, None)).is_ok(), "another subject");
        clock.0.store(1, Ordering::Relaxed);
        assert!(throttle.reserve(&attempt("obs-0017", 9, None)).is_ok(), "one came back");
        assert!(throttle.reserve(&attempt("obs-0017", 9, None)).is_err());
    }

    #[test]
    fn successes_do_not_count_however_many() {
        let (throttle, _) = throttle(100);
        for _ in 0..50 {
            let passed = throttle.reserve(&attempt("obs-0017", 1, None)).expect("it passes");
            assert!(throttle.succeeded(&attempt("obs-0017", 1, None), passed).is_some());
            let passed = throttle.reserve(&attempt("ope-0002", 2, None)).expect("it passes");
            throttle.give_back(&attempt("ope-0002", 2, None), passed);
        }
    }

    #[test]
    fn an_address_has_a_budget_of_its_own_and_a_network_is_one() {
        let (throttle, _) = throttle(100);
        fn from(last: u16, subject: &str) -> Attempt<'_> {
            let address = Ipv6Addr::new(0x2001, 0xdb8, 0, 1, last, 0, 0, last);
            Attempt { address: Some(address.into()), who: Some(Who::Subject(subject)), mark: None }
        }
        for number in 0..5 {
            let subject = format!("nobody-{number}");
            assert!(throttle.reserve(&from(number, &subject)).is_ok());
        }
        assert!(throttle.reserve(&from(99, "nobody-99")).is_err());
        let arrives = Attempt { who: None, ..from(99, "") };
        assert!(throttle.admits(&arrives).is_err(), "before the app is asked for anything");
        assert!(
            throttle.people.has_left(&throttle.who(Who::Subject("nobody-99")).0).is_ok(),
            "and nothing was counted"
        );
    }

    #[test]
    fn whoever_got_in_before_still_gets_in_by_address_or_by_mark_and_not_for_ever() {
        let (throttle, _) = throttle(100);
        let owner = attempt("obs-0017", 1, None);
        let passed = throttle.reserve(&owner).expect("it passes");
        let mark = throttle.succeeded(&owner, passed).expect("a mark");
        while throttle.reserve(&attempt("obs-0017", 66, None)).is_ok() {}
        let elsewhere = attempt("obs-0017", 7, Some(&mark));
        for known in [owner, elsewhere] {
            for _ in 0..2 {
                assert_eq!(throttle.reserve(&known), Ok(Passed::AsKnown));
            }
            assert!(throttle.reserve(&known).is_err(), "a budget of its own");
            throttle.give_back(&known, Passed::AsKnown);
            assert_eq!(throttle.reserve(&known), Ok(Passed::AsKnown), "given back");
        }
        for mark in
            ["", ".", "x", &mark[1..], &format!("{mark}A"), &throttle.mark(Who::Subject("ope-0002")).expect("a mark")]
        {
            assert!(throttle.reserve(&attempt("obs-0017", 8, Some(mark))).is_err(), "{mark}");
        }
        let client = throttle.mark(Who::Client("obs-0017")).expect("a mark");
        assert!(throttle.reserve(&attempt("obs-0017", 8, Some(&client))).is_err(), "a client of the same name");
    }

    #[test]
    fn a_client_is_throttled_by_its_own_failures_but_not_where_it_got_in_before() {
        let (throttle, _) = throttle(100);
        let from = |last| Attempt { who: Some(Who::Client("dome")), ..attempt("", last, None) };
        throttle.got_in(&from(1));
        for last in 10..13 {
            assert!(throttle.admits(&from(last)).is_ok());
            throttle.failed(&from(last));
        }
        assert!(throttle.admits(&from(13)).is_err(), "three failures are its budget");
        assert!(throttle.admits(&Attempt { who: Some(Who::Client("archive")), ..from(13) }).is_ok(), "another client");
        for _ in 0..2 {
            assert!(throttle.admits(&from(1)).is_ok(), "it got in from there");
            throttle.failed(&from(1));
        }
        assert!(throttle.admits(&from(1)).is_err(), "within a budget of its own");
    }

    #[test]
    fn memory_is_bounded_however_many_try() {
        let (throttle, _) = throttle(64);
        for number in 0..5_000_u32 {
            let [.., one, two] = number.to_be_bytes();
            let subject = format!("nobody-{number}");
            let address = Some([10, 1, one, two].into());
            let attempt = Attempt { address, who: Some(Who::Subject(&subject)), mark: None };
            let passed = throttle.reserve(&attempt).expect("it passes");
            if number % 2 == 0 {
                let _ = throttle.succeeded(&attempt, passed);
            }
            assert!(throttle.people.len() <= 64 && throttle.addresses.len() <= 64);
        }
        let places = throttle.places();
        assert!(places.got_in.len() <= 64 && places.order.len() <= 64 && places.addresses.len() <= 64);
    }

    proptest! {
        /// Against a plain model: failures since the beginning, of which one is forgotten a second. Left out: parallel attempts, which the
        /// table's lock makes one after the other, and more keys than the table has room for.
        #[test]
        fn no_more_failures_pass_than_the_budget_has(steps in proptest::collection::vec((0..3_u8, 0..3_u8, 0..3_i64), 1..80)) {
            let (throttle, clock) = throttle(100);
            let (mut level, mut at) = (HashMap::<u8, i64>::new(), 0);
            for (who, outcome, later) in steps {
                at += later;
                clock.0.store(at, Ordering::Relaxed);
                for spent in level.values_mut() {
                    *spent = (*spent - later).max(0);
                }
                let subject = format!("obs-{who}");
                let attempt = Attempt { address: None, who: Some(Who::Subject(&subject)), mark: None };
                let spent = level.entry(who).or_default();
                match throttle.reserve(&attempt) {
                    Ok(passed) => {
                        prop_assert!(*spent < 3, "{spent}");
                        match outcome {
                            0 => *spent += 1,
                            1 => drop(throttle.succeeded(&attempt, passed)),
                            _ => throttle.give_back(&attempt, passed),
                        }
                    }
                    Err(_) => prop_assert!(*spent >= 3, "{spent}"),
                }
            }
        }
    }
}
