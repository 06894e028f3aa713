//! What nobody outside can measure.

use async_trait::async_trait;
use vorsel_core::{Algorithm, NoOwn, Secret, SigningKey};

use super::*;
use crate::store::MemoryStore;

struct Everybody;

#[async_trait]
impl Admission<NoOwn> for Everybody {
    async fn admit(&self, _: &str, _: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        Ok(Grant { roles: Vec::new(), scopes: Scopes::default(), own: NoOwn {} })
    }
}

fn sessions() -> Sessions<NoOwn> {
    let key = || SigningKey::hmac(Algorithm::Hs256, Secret::new((0..32).collect())).expect("a secret");
    let keys = IssuerKeys { access: key().into(), refresh: key().into() };
    let sessions = Sessions::builder("https://id.skarnhill.test", "https://api.skarnhill.test").keys(keys);
    let sessions = sessions.store(Arc::new(MemoryStore::new())).admission(Arc::new(Everybody));
    sessions.build().expect("sessions")
}

/// Up to this size glibc's allocator keeps at hand what was freed; what is larger costs it several times as much.
const SMALL: usize = 1_032;

#[test]
fn a_renewal_asks_for_less_than_a_kilobyte_at_once() {
    let Sessions(inner) = sessions();
    let session =
        Session::begin(session_seed().expect("a seed"), SignIn::new("obs-0017", "desk"), &inner.limits, Timestamp::MIN);
    let current = CurrentToken::of(session);
    let answer = inner.answer(current.presented().clone(), Some(current), None, None, Timestamp::MIN);
    let size = size_of_val(&tracing::Instrument::in_current_span(answer));
    assert!(size <= SMALL, "{size}");
}
