//! A keyring in use.

use std::error::Error;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Weak};
use std::thread;
use std::time::Duration;

use vorsel_core::{KeyError, Keyring, Lifetime, SigningKey, StepError, TakenUp};

use super::error::{KeyFileError, KeyStepError};
use super::file::{KeyFile, Version};
use crate::clock::now;
use crate::live::Live;

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
    ring: Live<Keyring>,
    file: Option<KeyFile>,
}

/// How often a key file is looked at for steps that another process has taken.
const LOOK_EVERY: Duration = Duration::from_millis(500);

impl LiveKeyring {
    fn new(ring: Keyring, file: Option<KeyFile>) -> Self {
        Self(Arc::new(Shared { ring: Live::new(ring), file }))
    }

    /// The keyring in a file, made by `make` if it is not there. Steps that other processes take are taken up within a
    /// second, as long as a clone of this, or anything made from it, is in use; should the file become unreadable, the keys stay as they
    /// are; should it be replaced by an older copy or by new keys, no withdrawal is forgotten and no key lost
    /// ([`Keyring::taking_up`]), and the file is mended. The log says so.
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
        self.0.ring.load_full()
    }

    /// Takes a step. If it is refused, the keyring stays as it was; if it is taken, everything made from the keyring
    /// follows before this returns, and so does the file, if there is one.
    ///
    /// # Errors
    /// If the step is refused, or the file cannot be read or written.
    pub fn change<T>(&self, step: impl FnOnce(&mut Keyring) -> Result<T, StepError>) -> Result<T, KeyStepError> {
        let replacing = self.0.ring.replacing();
        let Some(file) = &self.0.file else {
            let mut ring = Keyring::clone(&self.current());
            let outcome = step(&mut ring)?;
            replacing.set(ring);
            return Ok(outcome);
        };
        let _lock = file.lock()?;
        let mut ring = taken_up(self.current().taking_up(file.read()?, now()), file);
        let outcome = step(&mut ring)?;
        file.write(&ring)?;
        replacing.set(ring);
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
        self.0.ring.derive(self.clone(), make)
    }

    /// [`derive`](Self::derive) of something that may not be possible now.
    pub(crate) fn try_derive<T: Send + Sync + 'static, E: Error + 'static>(
        &self,
        what: &'static str,
        make: impl Fn(&Keyring) -> Result<T, E> + Send + 'static,
    ) -> Result<Live<T>, E> {
        self.0.ring.try_derive(self.clone(), what, make)
    }
}

impl Shared {
    /// Reads the file again if it is another one than `seen`.
    fn take_up(&self, file: &KeyFile, seen: &mut Option<Version>) -> Result<(), KeyFileError> {
        let version = file.version().map_err(KeyFileError::io(file.path(), "read"))?;
        if *seen == Some(version) {
            return Ok(());
        }
        let replacing = self.ring.replacing();
        let take_up = || Ok(self.ring.load_full().taking_up(file.read()?, now()));
        let mut taken = take_up()?;
        *seen = Some(version);
        if !taken.kept.is_empty() {
            // Those that come later are to know it as well. Where that is not possible, it is kept here.
            let mended = file.lock().and_then(|_lock| {
                taken = take_up()?;
                file.write(&taken.ring)
            });
            replacing.set(taken_up(taken, file));
            return mended;
        }
        replacing.set(taken.ring);
        Ok(())
    }
}

/// What was read, with what is kept besides, which the log tells of.
fn taken_up(taken: TakenUp, file: &KeyFile) -> Keyring {
    for kept in &taken.kept {
        let path = file.path().display().to_string();
        tracing::error!(target: "vorsel::keys", path, "the key file was replaced: {kept}; what was known is kept");
    }
    taken.ring
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
