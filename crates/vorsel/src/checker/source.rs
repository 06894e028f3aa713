//! Where keys come from that are not all known yet, and issuers that are asked.

use std::fmt;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;

use vorsel_core::{Checked, Finding, Timestamp};

/// Where keys come from that are not all known yet.
pub(crate) trait KeySource: fmt::Debug + Send + Sync {
    /// Has the keys looked for again, since a token names one that is not known; done when they are there or can't be had. Nothing if
    /// that is not done now: they were looked for a moment ago.
    fn look_again(&self) -> Option<Looking>;

    /// Why no key is known at all, if that is for want of an answer.
    fn missing(&self) -> Option<String>;
}

pub(crate) type Looking = Pin<Box<dyn Future<Output = ()> + Send>>;

/// An issuer that is asked what its tokens are worth.
pub(crate) trait Asks<C>: fmt::Debug + Send + Sync {
    fn issuer(&self) -> &str;

    /// Whether JWTs that name it are not checked here.
    fn takes_jwts(&self) -> bool;

    /// What it has answered a moment ago.
    fn known(&self, token: &[u8], now: Timestamp) -> Option<Result<Arc<Checked<C>>, Box<Finding>>>;

    fn ask(&self, token: &[u8], now: Timestamp) -> Asked<C>;
}

pub(crate) type Asked<C> = Pin<Box<dyn Future<Output = Result<Arc<Checked<C>>, NoAnswer>> + Send>>;

/// Why there are no claims.
#[cfg_attr(not(feature = "remote"), expect(dead_code, reason = "nobody is asked"))]
pub(crate) enum NoAnswer {
    Refused(Box<Finding>),
    /// It could not be asked.
    Unanswered(String),
}
