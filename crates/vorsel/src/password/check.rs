//! Checking passwords: by few threads, with little memory, and as long for nobody as for somebody.

use std::fmt;
use std::num::NonZeroUsize;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use argon2::password_hash::phc::PasswordHash;
use argon2::{Algorithm, Argon2, Block, Params, Version};
use aws_lc_rs::constant_time;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::time::timeout;
use zeroize::Zeroizing;

/// How much the checking of passwords may take.
///
/// ```
/// use vorsel::PasswordLimits;
///
/// let mut limits = PasswordLimits::default();
/// limits.queue = 64; // those beyond it are told to come again
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PasswordLimits {
    /// How many passwords are checked at once; each takes a thread of its own.
    pub threads: NonZeroUsize,
    /// How much memory all checks take together, in MiB. A hash that alone asks for more is not checked.
    pub memory_mib: u32,
    /// How many sign-ins wait for their turn. Those beyond are told to come again.
    pub queue: usize,
    /// Longer than this none of them waits.
    pub longest_wait: Duration,
}

impl Default for PasswordLimits {
    /// Half of the processors, so that requests go on; 128 MiB; 128 waiting, 10 seconds at most.
    fn default() -> Self {
        let half = std::thread::available_parallelism().map_or(1, |count| count.get().div_ceil(2));
        let threads = NonZeroUsize::new(half).unwrap_or(NonZeroUsize::MIN);
        Self { threads, memory_mib: 128, queue: 128, longest_wait: Duration::from_secs(10) }
    }
}

/// What came of a check.
///
/// ```
/// # #[tokio::main]
/// # async fn main() -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::{PasswordVerdict, Passwords};
///
/// let passwords = Passwords::new(Default::default());
/// let hash = vorsel::hash_password("hill-obs-0017")?;
/// let verdict = passwords.check("hill-obs-0017", Some(&hash)).await?;
/// assert!(matches!(verdict, PasswordVerdict::Right { is_outdated: false }));
/// assert!(matches!(passwords.check("guess", None).await?, PasswordVerdict::Wrong), "as slow for nobody");
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[must_use]
pub enum PasswordVerdict {
    /// It is the password.
    Right {
        /// Whether its hash is weaker than those that [`hash_password`](crate::hash_password) makes now.
        is_outdated: bool,
    },
    /// It is another one, or there is none.
    Wrong,
}

/// Why a password was not checked.
///
/// ```
/// # #[tokio::main]
/// # async fn main() -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::{PasswordCheckError, Passwords};
///
/// let checked = Passwords::new(Default::default()).check("hill-obs-0017", Some("no hash")).await;
/// assert!(matches!(checked, Err(PasswordCheckError::Hash { .. })));
/// # Ok(())
/// # }
/// ```
#[derive(Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PasswordCheckError {
    /// More are waiting than may, or the wait was too long. It may be tried again.
    #[error("{waiting} sign-ins wait for their passwords to be checked, and that is enough")]
    Busy {
        /// How many may wait.
        waiting: usize,
    },
    /// The hash is not one that can be checked.
    #[error("expected an Argon2id hash as a PHC string within {memory_mib} MiB, but found {found}")]
    Hash {
        /// What all checks may take together.
        memory_mib: u32,
        /// What was found; never the hash.
        found: String,
    },
}

vorsel_core::readable_debug!(PasswordCheckError);

/// Checks passwords against their hashes: never more at once than its [limits](PasswordLimits) allow, whatever comes.
///
/// A check for nobody takes as long as one for somebody: the work is that of the hash which was checked last, or of one that
/// [`hash_password`](crate::hash_password) makes.
///
/// ```
/// # #[tokio::main]
/// # async fn main() -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::Passwords;
///
/// let passwords = Passwords::new(Default::default()); // one for the app: its threads and its memory are bounded
/// let hash = passwords.hash("a new password").await?;
/// # Ok(())
/// # }
/// ```
#[derive(Clone)]
pub struct Passwords(Arc<Inner>);

struct Inner {
    limits: PasswordLimits,
    places: Arc<Semaphore>,
    threads: Arc<Semaphore>,
    memory: Arc<Semaphore>,
    /// What a check for nobody takes.
    usual: Mutex<Params>,
    /// Memory that checks have used and others use again: the allocator would keep what each thread gives back.
    spare: Mutex<Vec<Vec<Block>>>,
}

/// What of a hash is needed to check a password.
struct Readable {
    params: Params,
    salt: Vec<u8>,
    hash: Vec<u8>,
}

impl Default for Passwords {
    fn default() -> Self {
        Self::new(PasswordLimits::default())
    }
}

impl Passwords {
    /// Within these limits.
    #[must_use]
    pub fn new(limits: PasswordLimits) -> Self {
        let semaphore = |count: usize| Arc::new(Semaphore::new(count.min(Semaphore::MAX_PERMITS)));
        Self(Arc::new(Inner {
            places: semaphore(limits.queue.saturating_add(limits.threads.get())),
            threads: semaphore(limits.threads.get()),
            memory: semaphore(limits.memory_mib as usize),
            usual: Mutex::new(Params::default()),
            spare: Mutex::default(),
            limits,
        }))
    }

    /// Whether this is the password of that hash, a PHC string; where there is none, it is not, after as much work. Whoever drops this
    /// gives its place in the queue up.
    ///
    /// # Errors
    /// If too many are waiting, or the hash can't be checked.
    ///
    /// # Panics
    /// Outside of a tokio runtime.
    pub async fn check(&self, password: &str, hash: Option<&str>) -> Result<PasswordVerdict, PasswordCheckError> {
        let readable = hash.map(|hash| self.readable(hash)).transpose();
        let params = match &readable {
            Ok(Some(readable)) => {
                *self.usual() = readable.params.clone();
                readable.params.clone()
            }
            _ => self.usual().clone(),
        };
        let held = self.turn(&params).await?;
        let (password, known) = (Zeroizing::new(password.to_owned()), readable.as_ref().ok().and_then(Option::as_ref));
        let (salt, expected) =
            known.map_or_else(|| (vec![0; 16], vec![0; 32]), |known| (known.salt.clone(), known.hash.clone()));
        let (is_known, inner) = (known.is_some(), self.0.clone());
        let worked = tokio::task::spawn_blocking(move || {
            let _held = held;
            let mut found = vec![0; expected.len()];
            let argon2 = Argon2::new(Algorithm::Argon2id, Version::V0x13, params.clone());
            let mut memory = inner.memory(&params);
            let made = argon2.hash_password_into_with_memory(password.as_bytes(), &salt, &mut found, &mut memory[..]);
            inner.give_back(memory);
            let is_same = constant_time::verify_slices_are_equal(&found, &expected).is_ok();
            (made.is_ok() && is_same && is_known, is_outdated(&params))
        });
        let (is_right, is_outdated) = worked.await.unwrap_or((false, false));
        match readable {
            Err(error) => Err(error),
            Ok(_) if is_right => Ok(PasswordVerdict::Right { is_outdated }),
            Ok(_) => Ok(PasswordVerdict::Wrong),
        }
    }

    /// [`hash_password`](crate::hash_password), in its turn.
    ///
    /// # Errors
    /// If too many are waiting.
    ///
    /// # Panics
    /// Outside of a tokio runtime.
    pub async fn hash(&self, password: &str) -> Result<Option<String>, PasswordCheckError> {
        let held = self.turn(&Params::default()).await?;
        let password = Zeroizing::new(password.to_owned());
        let made = tokio::task::spawn_blocking(move || {
            let _held = held;
            super::hash_password(&password).ok()
        });
        Ok(made.await.ok().flatten())
    }

    /// Waits for a place, a thread and the memory.
    async fn turn(&self, params: &Params) -> Result<[OwnedSemaphorePermit; 3], PasswordCheckError> {
        let Inner { limits, places, threads, memory, .. } = &*self.0;
        let busy = || PasswordCheckError::Busy { waiting: limits.queue };
        let place = places.clone().try_acquire_owned().map_err(|_| busy())?;
        let needed = mib(params).min(limits.memory_mib);
        let waited = timeout(limits.longest_wait, async {
            let thread = threads.clone().acquire_owned().await.ok()?;
            Some((thread, memory.clone().acquire_many_owned(needed).await.ok()?))
        });
        let (thread, memory) = waited.await.ok().flatten().ok_or_else(busy)?;
        Ok([place, thread, memory])
    }

    fn readable(&self, hash: &str) -> Result<Readable, PasswordCheckError> {
        let memory_mib = self.0.limits.memory_mib;
        let wrong = |found: String| PasswordCheckError::Hash { memory_mib, found };
        let read = PasswordHash::new(hash).map_err(|error| wrong(format!("a text that is none: {error}")))?;
        let (algorithm, version) = (read.algorithm.as_str(), read.version.unwrap_or(0x13));
        if algorithm != "argon2id" || version != 0x13 {
            return Err(wrong(format!("one of {algorithm:.20} in version {version}")));
        }
        let params =
            Params::try_from(&read).map_err(|error| wrong(format!("parameters that can't be used: {error}")))?;
        if mib(&params) > memory_mib {
            return Err(wrong(format!("one of {} MiB", mib(&params))));
        }
        let (Some(salt), Some(output)) = (&read.salt, &read.hash) else {
            return Err(wrong("one without a salt".into()));
        };
        Ok(Readable { params, salt: salt.as_ref().to_vec(), hash: output.as_bytes().to_vec() })
    }

    fn usual(&self) -> MutexGuard<'_, Params> {
        self.0.usual.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Inner {
    fn memory(&self, params: &Params) -> Vec<Block> {
        let mut memory = self.spare().pop().unwrap_or_default();
        memory.resize(params.block_count(), Block::default());
        memory
    }

    /// No more of it is kept than checks may take together, however unlike their hashes are.
    fn give_back(&self, memory: Vec<Block>) {
        let share = self.limits.memory_mib as usize / self.limits.threads.get();
        let mut spare = self.spare();
        if memory.capacity() / 1_024 <= share && spare.len() < self.limits.threads.get() {
            spare.push(memory);
        }
    }

    fn spare(&self) -> MutexGuard<'_, Vec<Vec<Block>>> {
        self.spare.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn mib(params: &Params) -> u32 {
    params.m_cost().div_ceil(1_024)
}

fn is_outdated(params: &Params) -> bool {
    let now = Params::default();
    params.m_cost() < now.m_cost() || params.t_cost() < now.t_cost()
}

impl fmt::Debug for Passwords {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Passwords").field("limits", &self.0.limits).finish_non_exhaustive()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::hash_password;

    fn passwords(memory_mib: u32, queue: usize) -> Passwords {
        let longest_wait = Duration::from_secs(30);
        Passwords::new(PasswordLimits { threads: NonZeroUsize::MIN, memory_mib, queue, longest_wait })
    }

    fn weak() -> String {
        let argon2 = Argon2::new(Algorithm::Argon2id, Version::V0x13, Params::new(64, 1, 1, None).expect("params"));
        let made = argon2::PasswordHasher::hash_password_with_salt(&argon2, b"hill", b"0123456789abcdef");
        made.expect("a hash").to_string()
    }

    #[tokio::test]
    async fn a_password_is_right_or_wrong_and_a_weak_hash_is_told() {
        let (passwords, strong) = (passwords(128, 8), hash_password("hill").expect("a hash"));
        for (password, hash, expected) in [
            ("hill", Some(strong.as_str()), PasswordVerdict::Right { is_outdated: false }),
            ("hill", Some(weak().as_str()), PasswordVerdict::Right { is_outdated: true }),
            ("Hill", Some(strong.as_str()), PasswordVerdict::Wrong),
            ("", Some(strong.as_str()), PasswordVerdict::Wrong),
            ("hill", None, PasswordVerdict::Wrong),
        ] {
            assert_eq!(passwords.check(password, hash).await, Ok(expected), "{password:?}");
        }
    }

    #[tokio::test]
    async fn a_hash_that_cannot_be_checked_is_an_error_and_not_a_way_in() {
        let strong = hash_password("hill").expect("a hash");
        for (hash, found) in [
            ("hill", "a text that is none"),
            ("", "a text that is none"),
            (&strong.replace("argon2id", "argon2i"), "one of argon2i in version 19"),
            (&strong.replace("v=19", "v=16"), "in version 16"),
            (&strong.replace("m=19456", "m=1048576"), "one of 1024 MiB"),
            (&strong[..strong.len() - 44], "one without a salt"),
        ] {
            let error = passwords(128, 8).check("hill", Some(hash)).await.expect_err(hash).to_string();
            assert!(error.contains(found), "{hash}: {error}");
        }
    }

    #[tokio::test]
    async fn those_beyond_the_queue_are_told_to_come_again_and_a_place_is_given_back() {
        let (passwords, strong) = (passwords(19, 2), hash_password("hill").expect("a hash"));
        let check = || passwords.check("hill", Some(&strong));
        // Dropped while they wait.
        for _ in 0..10 {
            let _ = timeout(Duration::ZERO, check()).await;
        }
        let all = futures_util::future::join_all((0..8).map(|_| check())).await;
        let right = all.iter().filter(|verdict| verdict.is_ok()).count();
        // One of those that were dropped may still be at work.
        assert!((2..=3).contains(&right), "three places at once: {all:?}");
        assert!(all.iter().any(|verdict| matches!(verdict, Err(PasswordCheckError::Busy { waiting: 2 }))));
        assert!(check().await.is_ok());
    }
}
