//! A keyring in use.

use std::error::Error;
use std::fmt;
use std::path::PathBuf;
use std::sync::{Arc, Weak};
use std::thread;
use std::time::Duration;

use tokio::time::{sleep, timeout};
use vorsel_core::{KeyError, Keyring, Lifetime, Secret, SigningKey, StepError, TakenUp};

use super::error::{KeyFileError, KeyStepError, KeyStoreError};
use super::file::{KeyFile, Version};
use super::kept::KeptKeys;

use crate::audit;
use crate::clock::now;
use crate::live::{Live, Replacing};
use crate::meters;
use crate::store::SessionStore;

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
    source: Source,
}

/// Where a keyring is kept.
#[derive(Debug)]
enum Source {
    Nowhere,
    File(KeyFile),
    Store(KeptKeys),
}

/// How often a key file or a store is looked at for steps that another process has taken.
const LOOK_EVERY: Duration = Duration::from_millis(500);
/// Longer than any store waits.
const ANSWER_WITHIN: Duration = Duration::from_secs(20);
/// Steps of others that come between before one's own is given up.
const MOST_RACES: usize = 10;

impl LiveKeyring {
    fn new(ring: Keyring, source: Source) -> Self {
        meters::keys(&ring);
        Self(Arc::new(Shared { ring: Live::new(ring), source }))
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
        let live = Self::new(ring, Source::File(file));
        let shared = Arc::downgrade(&live.0);
        thread::Builder::new()
            .name("vorsel keys".to_owned())
            .spawn(move || follow(&shared))
            .map_err(KeyFileError::io(&path, "followed"))?;
        Ok(live)
    }

    /// The keyring of this name in a store, sealed with `secret`, made by `make` if it is not there. Steps that other instances
    /// take are taken up within a second, as with a [file](Self::in_file); steps of one's own are taken by [`step`](Self::step).
    ///
    /// # Errors
    /// If the secret is shorter than 32 bytes or another one than the keys were sealed with, or the store fails.
    ///
    /// # Panics
    /// Outside of a tokio runtime.
    pub async fn in_store(
        store: Arc<dyn SessionStore>,
        name: &'static str,
        secret: &Secret,
        make: impl FnOnce() -> Result<Keyring, KeyError> + Send,
    ) -> Result<Self, KeyStoreError> {
        let keys = KeptKeys::new(store, name, secret)?;
        let ring = keys.read_or_make(make).await?;
        let live = Self::new(ring, Source::Store(keys));
        tokio::spawn(follow_store(Arc::downgrade(&live.0)));
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
    /// If the step is refused, the file cannot be read or written, or the keyring is in a store.
    pub fn change<T>(&self, step: impl FnOnce(&mut Keyring) -> Result<T, StepError>) -> Result<T, KeyStepError> {
        let replacing = self.0.ring.replacing();
        let file = match &self.0.source {
            Source::File(file) => file,
            Source::Store(_) => return Err(KeyStepError::InStore),
            Source::Nowhere => {
                let mut ring = Keyring::clone(&self.current());
                let outcome = step(&mut ring)?;
                self.0.replace(replacing, ring);
                return Ok(outcome);
            }
        };
        let _lock = file.lock()?;
        let mut ring = taken_up(self.current().taking_up(file.read()?, now()), &file.path().display().to_string());
        let outcome = step(&mut ring)?;
        file.write(&ring)?;
        self.0.replace(replacing, ring);
        Ok(outcome)
    }

    /// [`change`](Self::change) wherever the keyring is kept, in a store too.
    ///
    /// # Errors
    /// If the step is refused, or the file or the store cannot be read or written.
    pub async fn step<T>(
        &self,
        step: impl FnOnce(&mut Keyring) -> Result<T, StepError> + Send,
    ) -> Result<T, KeyStepError> {
        match &self.0.source {
            Source::Store(keys) => self.0.change_in_store(keys, step).await,
            _ => self.change(step),
        }
    }

    /// Sees to it that tokens of this lifetime outlive no key; needed only for keys in a store, and for lifetimes longer than those
    /// of [`KeyTimes`](crate::KeyTimes): others are told when sessions or access tokens are built.
    ///
    /// # Errors
    /// If the file or the store cannot be read or written.
    pub async fn allow_lifetime(&self, lifetime: Lifetime) -> Result<(), KeyStepError> {
        if self.current().times().longest_lifetime >= lifetime {
            return Ok(());
        }
        self.step(|ring| {
            ring.allow_lifetime(lifetime);
            Ok(())
        })
        .await
    }

    /// Sees to it that tokens of this lifetime outlive no key.
    pub(crate) fn allow(&self, lifetime: Lifetime) -> Result<(), KeyStepError> {
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
    /// Goes by this keyring from now on; the log tells what is new.
    fn replace(&self, replacing: Replacing<'_, Keyring>, ring: Keyring) {
        let place = match &self.source {
            Source::Nowhere => None,
            Source::File(file) => Some(file.path().display().to_string()),
            Source::Store(keys) => Some(keys.name().to_owned()),
        };
        audit::keys_changed(&self.ring.load_full(), &ring, place.as_deref(), now());
        meters::keys(&ring);
        replacing.set(ring);
    }

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
            self.replace(replacing, taken_up(taken, &file.path().display().to_string()));
            return mended;
        }
        self.replace(replacing, taken.ring);
        Ok(())
    }
}

/// Keys in a store.
impl Shared {
    /// What was read, held against what is known; the log tells what it lacks.
    fn holding_against(&self, read: Keyring, keys: &KeptKeys) -> TakenUp {
        let taken = self.ring.load_full().taking_up(read, now());
        let kept = taken.kept.clone();
        TakenUp { ring: taken_up(taken, keys.name()), kept }
    }

    /// Goes by this keyring, but for what has become known meanwhile.
    fn take(&self, ring: Keyring, keys: &KeptKeys) {
        let replacing = self.ring.replacing();
        self.replace(replacing, self.holding_against(ring, keys).ring);
    }

    /// Takes a step on the keyring as the store has it. If somebody else has taken one meanwhile, both are put together.
    async fn change_in_store<T>(
        &self,
        keys: &KeptKeys,
        step: impl FnOnce(&mut Keyring) -> Result<T, StepError> + Send,
    ) -> Result<T, KeyStepError> {
        let (mut version, mut ring) = match keys.read().await? {
            Some((version, read)) => (version, self.holding_against(read, keys).ring),
            None => (0, Keyring::clone(&self.ring.load_full())),
        };
        let outcome = step(&mut ring)?;
        for _ in 0..MOST_RACES {
            if keys.write(version, &ring).await? {
                self.take(ring, keys);
                return Ok(outcome);
            }
            if let Some((newer, read)) = keys.read().await? {
                (version, ring) = (newer, ring.taking_up(read, now()).ring);
            }
        }
        Err(KeyStoreError::Raced { name: keys.name().to_owned() }.into())
    }

    /// Takes up what others have changed since `seen`, and puts back what the store has lost.
    async fn take_up_from_store(&self, keys: &KeptKeys, seen: &mut u64) -> Result<(), KeyStoreError> {
        let Some((version, read)) = keys.read_after(*seen).await? else { return Ok(()) };
        let Some(read) = read else {
            tracing::error!(target: "vorsel::keys", "the store has no keys any more; what was known is put back");
            keys.write(0, &self.ring.load_full()).await?;
            return Ok(());
        };
        let taken = self.holding_against(read, keys);
        let is_whole = taken.kept.is_empty();
        if !is_whole {
            keys.write(version, &taken.ring).await?;
        }
        self.take(taken.ring, keys);
        // What was put back is read once more.
        *seen = version;
        Ok(())
    }
}

/// What was read, with what is kept besides, which the log tells of.
fn taken_up(taken: TakenUp, place: &str) -> Keyring {
    for kept in &taken.kept {
        tracing::error!(target: "vorsel::keys", place, "the keys were replaced: {kept}; what was known is kept");
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
        let Source::File(file) = &shared.source else { return };
        let said = shared.take_up(file, &mut seen).err().map(|error| error.to_string()).unwrap_or_default();
        if said != complaint && !said.is_empty() {
            tracing::error!(target: "vorsel::keys", "the keys stay as they are: {said}");
        }
        complaint = said;
    }
}

/// [`follow`] for keys in a store.
async fn follow_store(shared: Weak<Shared>) {
    let (mut seen, mut complaint) = (0, String::new());
    loop {
        sleep(LOOK_EVERY).await;
        let Some(shared) = shared.upgrade() else { return };
        let Source::Store(keys) = &shared.source else { return };
        let said = match timeout(ANSWER_WITHIN, shared.take_up_from_store(keys, &mut seen)).await {
            Ok(Ok(())) => String::new(),
            Ok(Err(error)) => error.to_string(),
            Err(_) => "the store does not answer".to_owned(),
        };
        if said != complaint && !said.is_empty() {
            tracing::error!(target: "vorsel::keys", "the keys stay as they are: {said}");
        }
        complaint = said;
    }
}

impl From<Keyring> for LiveKeyring {
    fn from(ring: Keyring) -> Self {
        Self::new(ring, Source::Nowhere)
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
        f.debug_struct("LiveKeyring").field("current", &self.current()).field("source", &self.0.source).finish()
    }
}
