//! A keyring in use.

use std::convert::Infallible;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};
use std::thread;
use std::time::Duration;

use arc_swap::ArcSwap;
use vorsel_core::{KeyError, Keyring, Lifetime, SigningKey, StepError};

use super::error::{KeyFileError, KeyStepError};
use super::file::{KeyFile, Version};

/// A keyring in use: clones share it, and what was made from it follows each of its steps at once.
///
/// ```
/// use vorsel::{Algorithm, KeyTimes, Keyring, LiveKeyring, SigningKey, now};
///
/// let first = SigningKey::generate(Algorithm::EdDsa)?;
/// let keys = LiveKeyring::from(Keyring::new(first, KeyTimes::default(), now()));
///
/// // Regular rotation: published now, signing as soon as every verifier knows it.
/// let next = SigningKey::generate(Algorithm::EdDsa)?;
/// let signs_from = keys.change(|ring| ring.roll(next, now()))?;
/// assert!(signs_from > now());
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone)]
pub struct LiveKeyring(Arc<Shared>);

struct Shared {
    current: ArcSwap<Keyring>,
    file: Option<KeyFile>,
    /// What is made anew at each step. Held while a step is taken, so that steps follow one another.
    followers: Mutex<Vec<Follower>>,
}

type Follower = Box<dyn Fn(&Keyring) -> bool + Send>;

/// Something made from a keyring, current.
pub(crate) type Live<T> = Arc<ArcSwap<T>>;

/// How often a key file is looked at for steps that another process has taken.
const LOOK_EVERY: Duration = Duration::from_millis(500);

impl LiveKeyring {
    fn new(ring: Keyring, file: Option<KeyFile>) -> Self {
        Self(Arc::new(Shared { current: ArcSwap::from_pointee(ring), file, followers: Mutex::default() }))
    }

    /// The keyring in a file, made by `make` if it is not there. Steps that other processes take are taken up within a
    /// second, as long as a clone of this is in use; should the file become unreadable, the keys stay as they are and the
    /// log says so.
    ///
    /// # Errors
    /// If the file cannot be read or made, holds no usable keyring, or can be read by others than its owner.
    pub fn in_file(
        path: impl Into<PathBuf>,
        make: impl FnOnce() -> Result<Keyring, KeyError>,
    ) -> Result<Self, KeyFileError> {
        let file = KeyFile::new(path.into());
        let ring = file.read_or_make(make)?;
        let path = file.path().to_owned();
        let live = Self::new(ring, Some(file));
        let shared = Arc::downgrade(&live.0);
        thread::Builder::new()
            .name("vorsel keys".to_owned())
            .spawn(move || follow(&shared))
            .map_err(KeyFileError::io(&path, "followed"))?;
        Ok(live)
    }

    /// The keyring as it is now.
    #[must_use]
    pub fn current(&self) -> Arc<Keyring> {
        self.0.current.load_full()
    }

    /// Takes a step. If it is refused, the keyring stays as it was; if it is taken, everything made from the keyring
    /// follows before this returns, and so does the file, if there is one.
    ///
    /// # Errors
    /// If the step is refused, or the file cannot be read or written.
    pub fn change<T>(&self, step: impl FnOnce(&mut Keyring) -> Result<T, StepError>) -> Result<T, KeyStepError> {
        let followers = self.0.followers();
        let Some(file) = &self.0.file else {
            let mut ring = Keyring::clone(&self.current());
            let outcome = step(&mut ring)?;
            self.0.set(ring, followers);
            return Ok(outcome);
        };
        let _lock = file.lock()?;
        let mut ring = file.read()?;
        let outcome = step(&mut ring)?;
        file.write(&ring)?;
        self.0.set(ring, followers);
        Ok(outcome)
    }

    /// Sees to it that tokens of this lifetime outlive no key.
    pub(crate) fn allow_lifetime(&self, lifetime: Lifetime) -> Result<(), KeyStepError> {
        if self.current().times().longest_lifetime >= lifetime {
            return Ok(());
        }
        self.change(|ring| {
            ring.allow_lifetime(lifetime);
            Ok(())
        })
    }

    /// Something made from the keyring now and after each step.
    pub(crate) fn derive<T: Send + Sync + 'static>(&self, make: impl Fn(&Keyring) -> T + Send + 'static) -> Live<T> {
        let Ok(live) = self.try_derive(move |ring| Ok::<_, Infallible>(make(ring)));
        live
    }

    /// [`derive`](Self::derive) of something that may not be possible now. After a step that makes it impossible, the
    /// last one stays.
    pub(crate) fn try_derive<T: Send + Sync + 'static, E>(
        &self,
        make: impl Fn(&Keyring) -> Result<T, E> + Send + 'static,
    ) -> Result<Live<T>, E> {
        let mut followers = self.0.followers();
        let live = Arc::new(ArcSwap::from_pointee(make(&self.current())?));
        let follower = Arc::downgrade(&live);
        followers.push(Box::new(move |ring| {
            let Some(live) = follower.upgrade() else { return false };
            if let Ok(made) = make(ring) {
                live.store(Arc::new(made));
            }
            true
        }));
        Ok(live)
    }
}

impl Shared {
    fn followers(&self) -> MutexGuard<'_, Vec<Follower>> {
        self.followers.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn set(&self, ring: Keyring, mut followers: MutexGuard<'_, Vec<Follower>>) {
        self.current.store(Arc::new(ring));
        let ring = self.current.load();
        followers.retain(|follow| follow(&ring));
    }

    /// Reads the file again if it is another one than `seen`.
    fn take_up(&self, file: &KeyFile, seen: &mut Option<Version>) -> Result<(), KeyFileError> {
        let version = file.version().map_err(KeyFileError::io(file.path(), "read"))?;
        if *seen == Some(version) {
            return Ok(());
        }
        let followers = self.followers();
        let ring = file.read()?;
        self.set(ring, followers);
        *seen = Some(version);
        Ok(())
    }
}

/// Looks at the file again and again until nobody uses the keyring any more.
fn follow(shared: &Weak<Shared>) {
    let mut seen = None;
    let mut complaint = String::new();
    loop {
        thread::sleep(LOOK_EVERY);
        let Some(shared) = shared.upgrade() else { return };
        let Some(file) = &shared.file else { return };
        let said = shared.take_up(file, &mut seen).err().map(|error| error.to_string()).unwrap_or_default();
        if said != complaint && !said.is_empty() {
            tracing::error!(target: "vorsel::keys", "the keys stay as they are: {said}");
        }
        complaint = said;
    }
}

impl From<Keyring> for LiveKeyring {
    fn from(ring: Keyring) -> Self {
        Self::new(ring, None)
    }
}

impl From<SigningKey> for LiveKeyring {
    /// One key that signs always, for tokens of any lifetime.
    fn from(key: SigningKey) -> Self {
        Keyring::from(key).into()
    }
}

impl fmt::Debug for LiveKeyring {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("LiveKeyring")
            .field("current", &self.current())
            .field("file", &self.0.file.as_ref().map(KeyFile::path).map(Path::display).map(|path| path.to_string()))
            .finish()
    }
}
