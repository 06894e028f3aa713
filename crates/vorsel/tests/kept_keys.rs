//! Keys in the store: sealed, made once, changed by one instance and known to all, whatever the store forgets.

use std::sync::Arc;
use std::time::{Duration, Instant};

use vorsel::store::{MemoryStore, PostgresStore, RedisStore, SessionStore, SqliteStore};
use vorsel::{
    Algorithm, IssuerKeys, KeyState, KeyStepError, KeyStoreError, Lifetime, LiveKeyring, Secret, SigningKey, now,
};

mod servers;
use servers::{Kind, shared};

fn secret(byte: u8) -> Secret {
    Secret::new(vec![byte; 32])
}

async fn keys(store: &Arc<dyn SessionStore>) -> IssuerKeys {
    IssuerKeys::in_store(store.clone(), &secret(7)).await.expect("keys")
}

fn ids(ring: &LiveKeyring) -> Vec<String> {
    ring.current().keys().iter().map(|key| key.key_id().to_owned()).collect()
}

async fn soon(what: &str, mut holds: impl FnMut() -> bool) {
    let deadline = Instant::now() + Duration::from_secs(10);
    while !holds() {
        assert!(Instant::now() < deadline, "{what}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

async fn stores() -> Vec<(tempfile::TempDir, Arc<dyn SessionStore>)> {
    let folder = || tempfile::tempdir().expect("a folder");
    let sqlite = folder();
    let file = SqliteStore::open(sqlite.path().join("sessions.sqlite")).await.expect("a store");
    let mut stores: Vec<(_, Arc<dyn SessionStore>)> =
        vec![(folder(), Arc::new(MemoryStore::new())), (sqlite, Arc::new(file))];
    if let Some(server) = shared(Kind::Postgres) {
        let store = PostgresStore::connect(&server.empty_database()).await.expect("a store");
        stores.push((folder(), Arc::new(store)));
    }
    if let Some(server) = shared(Kind::Redis) {
        let store = RedisStore::connect(&server.empty_database()).await.expect("a store");
        stores.push((folder(), Arc::new(store)));
    }
    stores
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_in_a_store_are_made_once_and_each_step_is_known_to_all() {
    for (_folder, store) in stores().await {
        let starts: Vec<_> = (0..4)
            .map(|_| {
                let store = store.clone();
                tokio::spawn(async move { keys(&store).await })
            })
            .collect();
        let mut instances = Vec::new();
        for start in starts {
            instances.push(start.await.expect("no panic"));
        }
        let [first, others @ ..] = &instances[..] else { unreachable!() };
        for other in others {
            assert_eq!(
                (ids(&first.access), ids(&first.refresh)),
                (ids(&other.access), ids(&other.refresh)),
                "{store:?}"
            );
        }
        // Several roll at once: each step is taken once.
        let rolls: Vec<_> = instances
            .iter()
            .map(|instance| {
                let ring = instance.access.clone();
                tokio::spawn(async move {
                    let next = SigningKey::generate(Algorithm::EdDsa).expect("a key");
                    ring.step(|ring| ring.roll(next, now())).await.expect("a step")
                })
            })
            .collect();
        for roll in rolls {
            assert!(roll.await.expect("no panic") > now());
        }
        for instance in &instances {
            soon("every instance has all five", || ids(&instance.access).len() == 5).await;
        }
        let leaked = ids(&first.access)[0].clone();
        first.access.step(|ring| ring.compromise(&leaked, now())).await.expect("a step");
        for instance in &instances {
            let state = || instance.access.current().state(&leaked, now());
            soon("every instance refuses the leaked key", || state() == Some(KeyState::Compromised)).await;
        }
        let long = Lifetime::days(2);
        others[0].access.allow_lifetime(long).await.expect("a step");
        soon("every instance knows", || first.access.current().times().longest_lifetime == long).await;
    }
}

#[tokio::test]
async fn keys_in_a_store_open_with_their_secret_alone_and_are_changed_by_calls_that_are_awaited() {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let ring = keys(&store).await.access;
    let other = IssuerKeys::in_store(store.clone(), &secret(8)).await.expect_err("another secret");
    assert_eq!(
        other.to_string(),
        "the keys \"access-keys\" in the store do not open: they were sealed with another secret, or were changed"
    );
    let short = IssuerKeys::in_store(store.clone(), &Secret::new(vec![7; 16])).await;
    assert!(matches!(short, Err(KeyStoreError::ShortSecret { found: 16 })));
    let next = SigningKey::generate(Algorithm::EdDsa).expect("a key");
    assert!(matches!(ring.change(|ring| ring.roll(next, now())), Err(KeyStepError::InStore)));
    let kept = store.kept(IssuerKeys::ACCESS_IN_STORE).await.expect("kept").expect("it is there");
    let open = ring.current().to_private_text().expect("text");
    for part in open.as_bytes().windows(12) {
        assert!(!kept.bytes.windows(12).any(|sealed| sealed == part), "a part of the keys stands there openly");
    }
}

/// After a fail-over, a restored copy, or a purge by hand.
#[tokio::test]
async fn what_a_store_forgets_of_keys_is_put_back_by_who_knows_it() {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let (one, other) = (keys(&store).await.access, keys(&store).await.access);
    let before = store.kept(IssuerKeys::ACCESS_IN_STORE).await.expect("kept").expect("it is there");
    let leaked = ids(&one)[0].clone();
    let next = SigningKey::generate(Algorithm::EdDsa).expect("a key");
    one.step(|ring| ring.compromise(&leaked, now())).await.expect("a step");
    one.step(|ring| ring.roll(next, now())).await.expect("a step");
    soon("the other has heard", || ids(&other).len() == 2).await;

    // The same store, as it was before those steps.
    let restored: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    assert!(restored.keep(IssuerKeys::ACCESS_IN_STORE, 0, &before.bytes).await.expect("an answer"));
    let fresh = LiveKeyring::in_store(restored, IssuerKeys::ACCESS_IN_STORE, &secret(7), || unreachable!()).await;
    assert_eq!(ids(&fresh.expect("keys"))[0], leaked);
    // An old version under a new number does not open: nobody takes it for the keys of now.
    let version = store.kept(IssuerKeys::ACCESS_IN_STORE).await.expect("kept").expect("it is there").version;
    assert!(store.keep(IssuerKeys::ACCESS_IN_STORE, version, &before.bytes).await.expect("an answer"));
    tokio::time::sleep(Duration::from_millis(1_200)).await;
    for ring in [&one, &other] {
        assert_eq!(ring.current().state(&leaked, now()), Some(KeyState::Compromised));
        assert_eq!(ids(ring).len(), 2);
    }
    let refused = IssuerKeys::in_store(store.clone(), &secret(7)).await;
    assert!(matches!(refused, Err(KeyStoreError::Sealed { .. })));
}
