//! The key that tickets are sealed with: random, and in the store, so that every instance has the same.

use std::sync::Arc;
use std::time::{Duration, Instant};

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use aws_lc_rs::digest::{SHA256, digest};
use aws_lc_rs::hkdf::{HKDF_SHA256, Salt};
use tokio::sync::Mutex;
use zeroize::Zeroizing;

use super::error::TicketError;
use crate::random::random_bytes;
use crate::store::SessionStore;

/// Where it is kept.
const KEPT: &str = "ticket-key";
const KEY_BYTES: usize = 32;
/// Of its hash, by which a ticket names it.
pub(super) const NAME_BYTES: usize = 4;

pub(super) struct TicketKey {
    pub(super) name: [u8; NAME_BYTES],
    bytes: Zeroizing<[u8; KEY_BYTES]>,
}

impl TicketKey {
    fn of(bytes: &[u8]) -> Option<Self> {
        let bytes = Zeroizing::new(<[u8; KEY_BYTES]>::try_from(bytes).ok()?);
        let mut name = [0; NAME_BYTES];
        name.copy_from_slice(digest(&SHA256, &*bytes).as_ref().get(..NAME_BYTES)?);
        Some(Self { name, bytes })
    }

    /// A key for one ticket alone, so that no nonce can come twice.
    fn of_ticket(&self, id: &[u8]) -> Option<LessSafeKey> {
        let extracted = Salt::new(HKDF_SHA256, b"vorsel ticket").extract(&*self.bytes);
        let info = [id];
        let expanded = extracted.expand(&info, &AES_256_GCM).ok()?;
        Some(LessSafeKey::new(UnboundKey::from(expanded)))
    }

    pub(super) fn seal(&self, id: &[u8], mut inside: Vec<u8>) -> Option<Vec<u8>> {
        let key = self.of_ticket(id)?;
        let nonce = Nonce::assume_unique_for_key([0; NONCE_LEN]);
        key.seal_in_place_append_tag(nonce, Aad::empty(), &mut inside).ok()?;
        Some(inside)
    }

    pub(super) fn open(&self, id: &[u8], sealed: &[u8]) -> Option<Zeroizing<Vec<u8>>> {
        let key = self.of_ticket(id)?;
        let mut inside = Zeroizing::new(sealed.to_vec());
        let nonce = Nonce::assume_unique_for_key([0; NONCE_LEN]);
        let length = key.open_in_place(nonce, Aad::empty(), &mut inside).ok()?.len();
        inside.truncate(length);
        Some(inside)
    }
}

/// The keys that are known here: the one in the store, and the one before it, should a fail-over have lost that.
#[derive(Default)]
pub(super) struct KnownKeys(Mutex<Known>);

#[derive(Default)]
struct Known {
    keys: Vec<Arc<TicketKey>>,
    asked_at: Option<Instant>,
}

const MOST_KNOWN: usize = 2;
/// After which whoever seals looks whether it is still that of the others.
const LOOK_AGAIN: Duration = Duration::from_secs(10);
/// However many tickets of unknown keys come.
const LEAST_BETWEEN: Duration = Duration::from_secs(1);

impl KnownKeys {
    /// The key to seal with.
    pub(super) async fn current(&self, store: &dyn SessionStore) -> Result<Arc<TicketKey>, TicketError> {
        let mut known = self.0.lock().await;
        if let Some(key) = known.keys.first().filter(|_| known.asked_within(LOOK_AGAIN)) {
            return Ok(key.clone());
        }
        match known.look(store).await {
            // A store that can't be asked now is no reason to forget what it has said.
            Err(TicketError::Store(_)) if !known.keys.is_empty() => {}
            looked => looked?,
        }
        known.keys.first().cloned().ok_or(TicketError::Primitive)
    }

    /// The key of this name, if the store has it, or had it before.
    pub(super) async fn named(
        &self,
        name: &[u8],
        store: &dyn SessionStore,
    ) -> Result<Option<Arc<TicketKey>>, TicketError> {
        let mut known = self.0.lock().await;
        if known.of(name).is_none() && !known.asked_within(LEAST_BETWEEN) {
            known.look(store).await?;
        }
        Ok(known.of(name))
    }
}

impl Known {
    fn asked_within(&self, span: Duration) -> bool {
        self.asked_at.is_some_and(|at| at.elapsed() < span)
    }

    fn of(&self, name: &[u8]) -> Option<Arc<TicketKey>> {
        self.keys.iter().find(|key| key.name == name).cloned()
    }

    /// Reads the key, or makes it.
    async fn look(&mut self, store: &dyn SessionStore) -> Result<(), TicketError> {
        self.asked_at = Some(Instant::now());
        let kept = match store.kept(KEPT).await? {
            Some(kept) => kept.bytes,
            None => {
                let mut bytes = Zeroizing::new(vec![0; KEY_BYTES]);
                random_bytes(&mut bytes)?;
                match store.keep(KEPT, 0, &bytes).await? {
                    true => bytes.to_vec(),
                    // Another instance was faster.
                    false => store.kept(KEPT).await?.map(|kept| kept.bytes).unwrap_or_default(),
                }
            }
        };
        let key = TicketKey::of(&kept).ok_or(TicketError::OtherKey)?;
        if self.keys.first().is_none_or(|known| known.name != key.name) {
            self.keys.insert(0, Arc::new(key));
            self.keys.truncate(MOST_KNOWN);
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::store::MemoryStore;

    #[tokio::test]
    async fn instances_agree_on_a_key_and_made_up_names_do_not_tire_the_store() {
        let (store, keys) = (MemoryStore::new(), [KnownKeys::default(), KnownKeys::default()]);
        let [one, other] = [keys[0].current(&store).await, keys[1].current(&store).await];
        let (Ok(one), Ok(other)) = (one, other) else { panic!("the store is there") };
        assert_eq!((one.name, &one.bytes), (other.name, &other.bytes));
        let asked_at = keys[0].0.lock().await.asked_at;
        for made_up in 0..10_000_u32 {
            assert!(keys[0].named(&made_up.to_be_bytes(), &store).await.is_ok_and(|key| key.is_none()));
        }
        let (asked_again, bound) = (keys[0].0.lock().await.asked_at, asked_at.map(|at| at + LEAST_BETWEEN));
        assert!(asked_again == asked_at || asked_again >= bound, "once a second at most");

        // What a fail-over may do.
        assert!(store.keep(KEPT, 1, &[7; KEY_BYTES]).await.is_ok_and(|kept| kept));
        let new = KnownKeys::default().current(&store).await.unwrap_or_else(|error| panic!("{error}"));
        keys[0].0.lock().await.asked_at = None;
        assert!(keys[0].named(&new.name, &store).await.is_ok_and(|key| key.is_some()), "the new one is found");
        assert!(keys[0].named(&one.name, &store).await.is_ok_and(|key| key.is_some()), "the one before still opens");
        assert!(keys[0].current(&store).await.is_ok_and(|key| key.name == new.name));

        assert!(store.keep(KEPT, 2, b"no key").await.is_ok_and(|kept| kept));
        let wrong = KnownKeys::default().current(&store).await;
        assert!(matches!(wrong, Err(TicketError::OtherKey)));
    }
}
