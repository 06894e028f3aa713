//! Values that change while they are in use, and what is made from them.

use std::any::Any;
use std::convert::Infallible;
use std::error::Error;
use std::fmt;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use arc_swap::{ArcSwap, Guard};

/// A value that may be replaced at any time: clones share it, reading it takes no lock, and whatever was derived from it is
/// made again before a replacement returns.
pub(crate) struct Live<T>(Arc<Shared<T>>);

struct Shared<T> {
    current: ArcSwap<T>,
    /// How often it was replaced.
    version: AtomicU64,
    /// Held while the value is replaced, so that replacements follow one another.
    followers: Mutex<Vec<Follower<T>>>,
    /// What this is derived from, which has to last as long.
    _source: Option<Box<dyn Any + Send + Sync>>,
}

/// Makes something again; says whether anybody still wants it.
type Follower<T> = Box<dyn Fn(&T) -> bool + Send>;

/// The right to replace the value.
pub(crate) struct Replacing<'l, T> {
    live: &'l Live<T>,
    followers: MutexGuard<'l, Vec<Follower<T>>>,
}

impl<T> Live<T> {
    pub(crate) fn new(value: T) -> Self {
        Self::of(value, None)
    }

    fn of(value: T, source: Option<Box<dyn Any + Send + Sync>>) -> Self {
        let (current, version) = (ArcSwap::from_pointee(value), AtomicU64::new(0));
        Self(Arc::new(Shared { current, version, followers: Mutex::default(), _source: source }))
    }

    pub(crate) fn load(&self) -> Guard<Arc<T>> {
        self.0.current.load()
    }

    /// Grows with each replacement, right after it. Whoever asks for this first and loads the value then has a value of this version
    /// or a later one.
    pub(crate) fn version(&self) -> u64 {
        self.0.version.load(Ordering::Acquire)
    }

    /// The value to keep for longer than a look takes.
    pub(crate) fn load_full(&self) -> Arc<T> {
        self.0.current.load_full()
    }
}

impl<T: Send + Sync + 'static> Live<T> {
    pub(crate) fn set(&self, value: T) {
        self.replacing().set(value);
    }

    /// Keeps others from replacing the value meanwhile.
    pub(crate) fn replacing(&self) -> Replacing<'_, T> {
        let followers = self.0.followers.lock().unwrap_or_else(PoisonError::into_inner);
        Replacing { live: self, followers }
    }

    /// Something made from the value now and at each replacement. `source` is what sees to the replacements.
    pub(crate) fn derive<U: Send + Sync + 'static>(
        &self,
        source: impl Any + Send + Sync,
        make: impl Fn(&T) -> U + Send + 'static,
    ) -> Live<U> {
        let Ok(live) = self.try_derive(source, "", move |value| Ok::<_, Infallible>(make(value)));
        live
    }

    /// [`derive`](Self::derive) of something that may not be possible now. After a replacement that makes it impossible the
    /// last one stays, and the log says that `what` could not be made and why.
    pub(crate) fn try_derive<U: Send + Sync + 'static, E: Error + 'static>(
        &self,
        source: impl Any + Send + Sync,
        what: &'static str,
        make: impl Fn(&T) -> Result<U, E> + Send + 'static,
    ) -> Result<Live<U>, E> {
        let mut replacing = self.replacing();
        let live = Live::of(make(&self.load())?, Some(Box::new(source)));
        let follower = Arc::downgrade(&live.0);
        replacing.followers.push(Box::new(move |value| {
            let Some(shared) = follower.upgrade() else { return false };
            match make(value) {
                Ok(made) => Live(shared).set(made),
                Err(error) => {
                    let error: &dyn Error = &error;
                    tracing::error!(target: "vorsel::live", error, "{what} cannot be made again; the last one stays in use");
                }
            }
            true
        }));
        Ok(live)
    }
}

impl<T: Send + Sync + 'static> Replacing<'_, T> {
    pub(crate) fn set(mut self, value: T) {
        self.live.0.current.store(Arc::new(value));
        self.live.0.version.fetch_add(1, Ordering::Release);
        let value = self.live.load();
        self.followers.retain(|follow| follow(&value));
    }
}

impl<T> Clone for Live<T> {
    fn clone(&self) -> Self {
        Self(self.0.clone())
    }
}

impl<T: fmt::Debug> fmt::Debug for Live<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.current.load().fmt(f)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_derived_follows_through_any_number_of_steps_and_lets_go() {
        let numbers = Live::new(1);
        let doubled = numbers.derive((), |number| number * 2);
        let words = doubled.clone().derive(doubled, |number| format!("{number}!"));
        numbers.set(21);
        assert_eq!(*words.load_full(), "42!");
        drop(words);
        numbers.set(3);
        assert!(numbers.replacing().followers.is_empty(), "nobody wants it any more");
    }

    #[derive(Clone, Default)]
    struct Lines(Arc<Mutex<Vec<u8>>>);

    impl std::io::Write for Lines {
        fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
            self.0.lock().expect("no panic").extend_from_slice(bytes);
            Ok(bytes.len())
        }

        fn flush(&mut self) -> std::io::Result<()> {
            Ok(())
        }
    }

    #[test]
    fn what_cannot_be_made_again_stays_as_it_was_and_the_log_says_so() {
        let (lines, text) = (Lines::default(), Live::new("7".to_owned()));
        let writer = lines.clone();
        let log =
            tracing_subscriber::fmt().with_ansi(false).without_time().with_writer(move || writer.clone()).finish();
        let number = text.try_derive((), "a number", |text| text.parse::<u8>()).expect("a number");
        tracing::subscriber::with_default(log, || text.set("seven".to_owned()));
        let logged = String::from_utf8(lines.0.lock().expect("no panic").clone()).expect("text");
        assert_eq!(
            logged,
            "ERROR vorsel::live: a number cannot be made again; the last one stays in use error=invalid digit found in \
             string\n"
        );
        assert_eq!(*number.load_full(), 7);
        text.set("8".to_owned());
        assert_eq!(*number.load_full(), 8);
        assert!(text.try_derive((), "a flag", |text| text.parse::<bool>()).is_err());
    }
}
