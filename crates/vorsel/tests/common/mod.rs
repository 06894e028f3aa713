//! A small issuer with sessions, for tests.
#![allow(dead_code, reason = "each test uses its part")]

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use async_trait::async_trait;
use vorsel::store::SessionStore;
use vorsel::testing::StillClock;
use vorsel::{
    Admission, AdmissionError, Algorithm, Clock, Expectations, Grant, IssuerKeys, KeyTimes, Keyring, NoOwn, Scopes,
    Secret, SessionLimits, Sessions, SessionsBuilder, SigningKey, Timestamp, Verifier,
};

pub(crate) const ISSUER: &str = "https://id.skarnhill.test";
pub(crate) const AUDIENCE: &str = "https://api.skarnhill.test";
pub(crate) const START: Timestamp = Timestamp::from_secs(1_700_000_000);
pub(crate) const WINDOW: Duration = Duration::from_secs(10);

/// Who may come in, with which roles; a test changes it while sessions last.
#[derive(Default)]
pub(crate) struct Book(pub(crate) Mutex<BTreeMap<String, Entry>>);

#[derive(Clone)]
pub(crate) enum Entry {
    Roles(Vec<&'static str>),
    Denied,
    Unavailable,
}

#[async_trait]
impl Admission<NoOwn> for Book {
    async fn admit(&self, subject: &str, _: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        match self.0.lock().expect("no panic").get(subject) {
            Some(Entry::Roles(roles)) => Ok(Grant {
                roles: roles.iter().map(|role| (*role).to_owned()).collect(),
                scopes: Scopes::parse("exposures:read logs:read").expect("scopes"),
                own: NoOwn {},
            }),
            Some(Entry::Unavailable) => Err(AdmissionError::Unavailable("the directory is down".into())),
            _ => Err(AdmissionError::Denied { reason: "not in the book".to_owned() }),
        }
    }
}

/// Sessions on a store, with a clock to move and a book to change.
pub(crate) struct House {
    store: Arc<dyn SessionStore>,
    pub(crate) sessions: Arc<Sessions<NoOwn>>,
    pub(crate) clock: Arc<StillClock>,
    pub(crate) book: Arc<Book>,
}

/// A house on this store. Houses on the same store act as instances of one service: their keys and clocks are the same.
pub(crate) fn houses(store: &Arc<dyn SessionStore>, count: usize, window: Duration) -> Vec<House> {
    let keys = IssuerKeys {
        access: Keyring::new(SigningKey::generate(Algorithm::EdDsa).expect("a key"), KeyTimes::default(), START).into(),
        refresh: SigningKey::hmac(Algorithm::Hs256, Secret::new((0..32).collect())).expect("a secret").into(),
    };
    let (clock, book) = (Arc::new(StillClock::at(START)), Arc::new(Book::default()));
    book.0.lock().expect("no panic").insert("obs-0017".to_owned(), Entry::Roles(vec!["observer"]));
    (0..count)
        .map(|_| {
            let limits = SessionLimits { retry_window: window, ..SessionLimits::default() };
            let sessions = Sessions::builder(ISSUER, AUDIENCE).keys(keys.clone()).store(store.clone());
            let sessions = sessions.admission(book.clone()).limits(limits).clock(clock.clone());
            let sessions = Arc::new(sessions.build().expect("sessions"));
            House { store: store.clone(), sessions, clock: clock.clone(), book: book.clone() }
        })
        .collect()
}

pub(crate) fn house(store: &Arc<dyn SessionStore>) -> House {
    houses(store, 1, WINDOW).remove(0)
}

impl House {
    pub(crate) fn store(&self) -> &Arc<dyn SessionStore> {
        &self.store
    }

    pub(crate) fn verifier(&self) -> Verifier {
        Verifier::new(self.sessions.keys().access.current().key_set(), Expectations::access(ISSUER, AUDIENCE))
    }

    /// The same house, its sessions set up differently.
    pub(crate) fn set_up(self, change: impl FnOnce(SessionsBuilder<NoOwn>) -> SessionsBuilder<NoOwn>) -> Self {
        let sessions = Sessions::builder(ISSUER, AUDIENCE).keys(self.sessions.keys().clone());
        let sessions = sessions.store(self.store.clone()).admission(self.book.clone()).clock(self.clock.clone());
        Self { sessions: Arc::new(change(sessions).build().expect("sessions")), ..self }
    }

    /// The same house by a clock of its own.
    pub(crate) fn with_clock(self, clock: Arc<StillClock>) -> Self {
        Self { clock, ..self }
    }

    pub(crate) fn now(&self) -> Timestamp {
        self.clock.now()
    }
}
