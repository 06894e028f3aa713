//! What the app says at a sign-in.

use std::collections::BTreeMap;
use std::error::Error;
use std::fmt;
use std::future::Future;
use std::net::IpAddr;
use std::pin::Pin;
use std::sync::Arc;

use serde_json::{Map, Value};

use crate::password::{PasswordLimits, Passwords};

type BoxError = Box<dyn Error + Send + Sync>;
type Later<T> = Pin<Box<dyn Future<Output = T> + Send>>;
type Find = dyn Fn(String) -> Later<Result<Option<Known>, BoxError>> + Send + Sync;
type Then = dyn Fn(SignInSoFar) -> Later<Result<(), NotYet>> + Send + Sync;
type Renew = dyn Fn(String, String) -> Later<Result<(), BoxError>> + Send + Sync;

/// Somebody whom the app knows: the subject, the hash of the password, and what the answer is to say besides the tokens.
///
/// ```
/// use vorsel::endpoints::Known;
///
/// let hash = vorsel::hash_password("hill-obs-0017")?;
/// let known = Known::new("obs-0017", hash).member("nickname", "Owl");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone)]
pub struct Known {
    pub(super) subject: String,
    pub(super) hash: String,
    pub(super) acr: Option<String>,
    pub(super) members: Map<String, Value>,
}

/// What the answer of a sign-in says itself.
const OURS: [&str; 7] = ["access_token", "token_type", "expires_in", "refresh_token", "scope", "device_mark", "error"];

impl Known {
    /// This subject, whose password has this hash: Argon2id as a PHC string, as [`hash_password`](crate::hash_password) makes it.
    #[must_use]
    pub fn new(subject: impl Into<String>, hash: impl Into<String>) -> Self {
        Self { subject: subject.into(), hash: hash.into(), acr: None, members: Map::new() }
    }

    /// How somebody authenticates who signs in so, `acr`.
    #[must_use]
    pub fn acr(mut self, acr: impl Into<String>) -> Self {
        self.acr = Some(acr.into());
        self
    }

    /// A member of the answer beside the tokens, a nickname for instance. What the answer says itself can't be said otherwise.
    #[must_use]
    pub fn member(mut self, name: &str, value: impl Into<Value>) -> Self {
        if !OURS.contains(&name) {
            self.members.insert(name.to_owned(), value.into());
        }
        self
    }
}

impl fmt::Debug for Known {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Known").field("subject", &self.subject).finish_non_exhaustive()
    }
}

/// A sign-in whose password was right.
///
/// ```
/// use vorsel::endpoints::{NotYet, PasswordSignIn, SignInSoFar};
///
/// async fn second_factor(sign_in: SignInSoFar) -> Result<(), NotYet> {
///     match sign_in.field("code") {
///         None => Err(NotYet::due("second_factor_due")),
///         Some("493817") => Ok(()),
///         Some(_) => Err(NotYet::wrong("second_factor_wrong")),
///     }
/// }
/// let sign_in = PasswordSignIn::new(async |_| Ok(None)).then(second_factor);
/// ```
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct SignInSoFar {
    /// Who signs in.
    pub subject: String,
    /// Through which client.
    pub client_id: String,
    /// From where, as far as that is known.
    pub address: Option<IpAddr>,
    pub(super) fields: BTreeMap<String, String>,
}

impl SignInSoFar {
    /// What else the request has said: a member of the JSON or of the form, `code` for instance.
    #[must_use]
    pub fn field(&self, name: &str) -> Option<&str> {
        self.fields.get(name).map(String::as_str)
    }
}

/// Why a sign-in is not done with the right password. The client learns the code, in `reason` beside `invalid_grant`.
///
/// ```
/// use vorsel::endpoints::NotYet;
///
/// let due = NotYet::due("address_unconfirmed"); // no failure: nothing was guessed
/// let wrong = NotYet::wrong("second_factor_wrong"); // counts like a wrong password
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NotYet {
    pub(super) code: String,
    pub(super) is_failure: bool,
}

impl NotYet {
    /// Something is due: `second_factor_due`, `address_unconfirmed`. It does not count as a failure.
    #[must_use]
    pub fn due(code: impl Into<String>) -> Self {
        Self { code: code.into(), is_failure: false }
    }

    /// Something was wrong, a second factor for instance. It counts like a wrong password, so that nobody guesses on.
    #[must_use]
    pub fn wrong(code: impl Into<String>) -> Self {
        Self { code: code.into(), is_failure: true }
    }
}

/// The ready sign-in: the app gives one function, from a subject as typed to the one it knows, or to nobody.
///
/// Passwords are checked by few threads within little memory, and as long for nobody as for somebody; those beyond the queue are
/// answered 503. Failures are [throttled](crate::endpoints::Endpoints::throttle).
///
/// ```
/// use vorsel::endpoints::{Known, NotYet, PasswordSignIn, SignInSoFar};
///
/// # async fn look_up(_: &str) -> Result<Option<(String, String)>, std::io::Error> { Ok(None) }
/// let sign_in = PasswordSignIn::new(async |typed| {
///     let found = look_up(&typed.to_lowercase()).await?;
///     Ok(found.map(|(subject, hash)| Known::new(subject, hash).member("nickname", "Ada")))
/// })
/// .then(async |so_far: SignInSoFar| match so_far.field("code") {
///     None => Err(NotYet::due("second_factor_due")),
///     Some("271828") => Ok(()),
///     Some(_) => Err(NotYet::wrong("second_factor_wrong")),
/// });
/// # drop(sign_in);
/// ```
#[derive(Clone)]
#[must_use]
pub struct PasswordSignIn {
    pub(super) find: Arc<Find>,
    pub(super) then: Option<Arc<Then>>,
    pub(super) renew: Option<Arc<Renew>>,
    pub(super) passwords: Passwords,
    pub(super) client: Option<String>,
}

impl PasswordSignIn {
    /// A sign-in that asks the app for a subject by what was typed. An error is answered 503.
    pub fn new<F, A>(find: F) -> Self
    where
        F: Fn(String) -> A + Send + Sync + 'static,
        A: Future<Output = Result<Option<Known>, BoxError>> + Send + 'static,
    {
        let find = move |typed| -> Later<_> { Box::pin(find(typed)) };
        Self { find: Arc::new(find), then: None, renew: None, passwords: Passwords::default(), client: None }
    }

    /// What the app has to say once the password was right: never before, so that nobody else learns of it.
    pub fn then<F, A>(mut self, then: F) -> Self
    where
        F: Fn(SignInSoFar) -> A + Send + Sync + 'static,
        A: Future<Output = Result<(), NotYet>> + Send + 'static,
    {
        self.then = Some(Arc::new(move |so_far| -> Later<_> { Box::pin(then(so_far)) }));
        self
    }

    /// Gives the app a new hash, with the subject before it, to keep in the place of one that is weaker than those made today.
    pub fn renew_hash<F, A>(mut self, keep: F) -> Self
    where
        F: Fn(String, String) -> A + Send + Sync + 'static,
        A: Future<Output = Result<(), BoxError>> + Send + 'static,
    {
        self.renew = Some(Arc::new(move |subject, hash| -> Later<_> { Box::pin(keep(subject, hash)) }));
        self
    }

    /// The public client that somebody signs in by whose request names none, for an API that people have one program for. Renewal and
    /// sign-out need its name all the same.
    pub fn client(mut self, client_id: impl Into<String>) -> Self {
        self.client = Some(client_id.into());
        self
    }

    /// Other limits to the checking of passwords.
    pub fn limits(mut self, limits: PasswordLimits) -> Self {
        self.passwords = Passwords::new(limits);
        self
    }
}

impl fmt::Debug for PasswordSignIn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("PasswordSignIn").field("passwords", &self.passwords).finish_non_exhaustive()
    }
}
