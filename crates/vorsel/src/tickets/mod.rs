//! Tickets: what a web socket or an event source shows in the place of an access token, since it can't send a header.

mod error;
mod key;

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use vorsel_core::{Expectations, Timestamp, base64url};
use zeroize::Zeroizing;

use crate::random::random_bytes;
use crate::store::SessionStore;
pub use error::TicketError;
use error::{LARGEST_TOKEN, LONGEST_PATH};
use key::{KnownKeys, NAME_BYTES};

/// Makes tickets, and takes them: each is good once, for 30 seconds and for one path, and stands for the access token that it was made
/// of. So an address in a log or in a history is worth nothing: the token is sealed in it, with a key that the instances share through
/// their store, and the store knows which tickets were used.
///
/// ```
/// use std::sync::Arc;
/// use vorsel::endpoints::Endpoints;
/// use vorsel::store::SessionStore;
/// use vorsel::{GuardBuilder, NoOwn, Tickets};
///
/// # fn set_up(store: Arc<dyn SessionStore>, guard: GuardBuilder<NoOwn>, endpoints: Endpoints<NoOwn>) {
/// let tickets = Tickets::new(store);
/// let endpoints = endpoints.tickets(tickets.clone()); // POST /oauth/ticket with path=/dome/live, to be guarded
/// let guard = guard.tickets("ticket", tickets); // GET /dome/live?ticket=…
/// # }
/// ```
#[derive(Clone)]
pub struct Tickets(Arc<Inner>);

struct Inner {
    store: Arc<dyn SessionStore>,
    keys: KnownKeys,
}

/// Why a ticket is not taken.
pub(crate) enum NotTaken {
    /// What was found.
    Bad(String),
    Unanswered(TicketError),
}

impl<E: Into<TicketError>> From<E> for NotTaken {
    fn from(error: E) -> Self {
        Self::Unanswered(error.into())
    }
}

/// What is sealed in a ticket.
#[derive(Serialize, Deserialize)]
struct Inside<'t> {
    /// When it was made, in microseconds since 1970.
    at: i64,
    path: &'t str,
    token: &'t str,
}

/// A ticket that was opened. It may have been used.
pub(crate) struct Opened {
    inside: Zeroizing<Vec<u8>>,
    id: String,
    made_at: Timestamp,
}

const ID_BYTES: usize = 16;

impl Tickets {
    /// For how long a ticket is good.
    pub const LIFETIME: Duration = Duration::from_secs(30);
    /// The longest path that a ticket can be good for, in bytes.
    pub const LONGEST_PATH: usize = LONGEST_PATH;
    /// The largest token that a ticket can stand for, in bytes: servers read no longer address.
    pub const LARGEST_TOKEN: usize = LARGEST_TOKEN;
    /// What both take, in text.
    const LARGEST: usize = 8_192;

    /// Tickets of all instances that share this store. The key is made on first use.
    pub fn new(store: Arc<dyn SessionStore>) -> Self {
        Self(Arc::new(Inner { store, keys: KnownKeys::default() }))
    }

    /// A ticket for this path (`/dome/live`, as browsers write it and without a query), that stands for this access token. Whoever shows
    /// it is checked as the token itself would be. The moment is that of the store's clock, as the endpoint tells it and as a guard
    /// reckons that [follows](crate::GuardBuilder::revocations) the store; by this machine's clock if the two agree.
    ///
    /// # Errors
    /// If it is no path, the token is too large, or the store fails.
    pub async fn ticket(&self, token: &str, path: &str, now: Timestamp) -> Result<String, TicketError> {
        let is_path = path.starts_with('/') && path.len() <= Self::LONGEST_PATH;
        if !is_path || !path.bytes().all(|byte| byte.is_ascii_graphic() && !b"?#\"\\".contains(&byte)) {
            return Err(TicketError::Path);
        }
        if token.len() > Self::LARGEST_TOKEN {
            return Err(TicketError::Token { found: token.len() });
        }
        let key = self.0.keys.current(&*self.0.store).await?;
        let mut id = [0; ID_BYTES];
        random_bytes(&mut id)?;
        let inside = Inside { at: now.as_micros(), path, token };
        let inside = serde_json::to_vec(&inside).map_err(|_| TicketError::Primitive)?;
        let sealed = key.seal(&id, inside).ok_or(TicketError::Primitive)?;
        Ok(base64url::encode([&key.name[..], &id, &sealed].concat()))
    }

    /// What stands in a ticket, if it is one for this path at this moment.
    pub(crate) async fn opened(&self, ticket: &str, path: &str, now: Timestamp) -> Result<Opened, NotTaken> {
        let other = || NotTaken::Bad("something else".to_owned());
        if ticket.len() > Self::LARGEST {
            return Err(NotTaken::Bad(format!("{} bytes", ticket.len())));
        }
        let bytes = base64url::decode(ticket).map_err(|_| other())?;
        let (name, rest) = bytes.split_at_checked(NAME_BYTES).ok_or_else(other)?;
        let (id, sealed) = rest.split_at_checked(ID_BYTES).ok_or_else(other)?;
        let key = self.0.keys.named(name, &*self.0.store).await?;
        let key =
            key.ok_or_else(|| NotTaken::Bad("one with another key, of before a fail-over or made up".to_owned()))?;
        let inside = key.open(id, sealed).ok_or_else(other)?;
        let Inside { at, path: good_for, .. } = serde_json::from_slice(&inside).map_err(|_| other())?;
        if good_for != path {
            return Err(NotTaken::Bad(format!("one for {good_for}")));
        }
        let made_at = Timestamp::from_micros(at);
        // A clock that is behind sees it come from the future.
        if now.distance(made_at) > Self::LIFETIME {
            let (seconds, when) = (now.distance(made_at).as_secs(), if now > made_at { "ago" } else { "from now" });
            return Err(NotTaken::Bad(format!("one of {seconds} s {when}")));
        }
        Ok(Opened { id: base64url::encode(id), made_at, inside })
    }

    /// Uses a ticket, at whatever instance; only the first time.
    pub(crate) async fn used(&self, opened: &Opened) -> Result<(), NotTaken> {
        let until = opened.made_at.after(Self::LIFETIME + Expectations::LARGEST_SKEW);
        match self.0.store.take(&format!("ticket:{}", opened.id), until).await? {
            true => Ok(()),
            false => Err(NotTaken::Bad("one that was used before".to_owned())),
        }
    }
}

impl Opened {
    /// The access token that it stands for.
    pub(crate) fn token(&self) -> &str {
        serde_json::from_slice(&self.inside).map_or("", |Inside { token, .. }| token)
    }
}

impl fmt::Debug for Tickets {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Tickets").finish_non_exhaustive()
    }
}
