//! Where keys come from that are not all known yet.

use std::fmt;
use std::future::Future;
use std::pin::Pin;

/// Where keys come from that are not all known yet.
pub(crate) trait KeySource: fmt::Debug + Send + Sync {
    /// Has the keys looked for again, since a token names one that is not known; done when they are there or can't be had. Nothing if
    /// that is not done now: they were looked for a moment ago.
    fn look_again(&self) -> Option<Looking>;

    /// Why no key is known at all, if that is for want of an answer.
    fn missing(&self) -> Option<String>;
}

pub(crate) type Looking = Pin<Box<dyn Future<Output = ()> + Send>>;
