//! Errors as people read them: what went wrong, and why, in one line.

use std::error::Error;

/// What an error says, and each of its causes that it does not say itself.
///
/// ```
/// let missing = std::io::Error::new(std::io::ErrorKind::NotFound, "no such file");
/// assert_eq!(vorsel_core::with_causes(&missing), "no such file");
/// ```
#[must_use]
pub fn with_causes(error: &(dyn Error + 'static)) -> String {
    let mut message = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        let next = error.to_string();
        if !message.contains(&next) {
            message.push_str(": ");
            message.push_str(&next);
        }
        cause = error.source();
    }
    message
}

/// Has an error of set-up say under `Debug` what it says to people: that is what a `main` prints that returns it.
#[doc(hidden)]
#[macro_export]
macro_rules! readable_debug {
    ($error:ty) => {
        impl ::std::fmt::Debug for $error {
            fn fmt(&self, f: &mut ::std::fmt::Formatter<'_>) -> ::std::fmt::Result {
                f.write_str(&$crate::with_causes(self))
            }
        }
    };
}
