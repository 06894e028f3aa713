//! Ending and revoking, whatever the order: what ended is neither renewed nor let in, what was revoked is not let in, and
//! what is issued after the news stands at once, on every instance.

use std::sync::Arc;
use std::time::Duration;

use proptest::prelude::*;
use vorsel::store::{MemoryStore, SessionStore, Which};
use vorsel::testing::StillClock;
use vorsel::{EndError, Issued, LiveRevocations, RenewalRequest, SignIn, Timestamp, Verifier};

mod common;
use common::{House, START, WINDOW, houses};

#[derive(Clone, Copy, Debug)]
enum Act {
    SignIn,
    Renew(usize),
    SignOut(usize),
    End(usize),
    EndSubject,
    EndBeforeNow,
    RevokeId(usize),
    RevokeSession(usize),
    RevokeSubject,
    RevokeAll,
    Pass(u16),
}

fn acts() -> impl Strategy<Value = Vec<(usize, Act)>> {
    let act = prop_oneof![
        3 => Just(Act::SignIn),
        6 => any::<usize>().prop_map(Act::Renew),
        1 => any::<usize>().prop_map(Act::SignOut),
        1 => any::<usize>().prop_map(Act::End),
        1 => Just(Act::EndSubject),
        1 => Just(Act::EndBeforeNow),
        1 => any::<usize>().prop_map(Act::RevokeId),
        2 => any::<usize>().prop_map(Act::RevokeSession),
        2 => Just(Act::RevokeSubject),
        1 => Just(Act::RevokeAll),
        3 => (0..2_000_u16).prop_map(Act::Pass),
    ];
    prop::collection::vec((0..2_usize, act), 1..24)
}

const TICK: Duration = Duration::from_millis(100);

/// A device: its session, its last refresh token, and whether it is over.
struct Device {
    session: String,
    refresh_token: String,
    is_over: bool,
}

/// A token that was issued, and whether it still stands; nothing where clocks leave that open.
struct Given {
    token: String,
    device: usize,
    stands: Option<bool>,
}

struct Hill {
    store: Arc<dyn SessionStore>,
    instances: Vec<(House, LiveRevocations, Verifier)>,
    devices: Vec<Device>,
    given: Vec<Given>,
}

impl Hill {
    /// Two instances; the clock of the second one is so far ahead, in milliseconds.
    async fn new(ahead: u64) -> Self {
        let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
        let mut instances = Vec::new();
        for (house, ahead) in houses(&store, 2, WINDOW).into_iter().zip([0, ahead]) {
            let clock = Arc::new(StillClock::at(START.after(Duration::from_millis(ahead))));
            let view = LiveRevocations::follow_by(store.clone(), clock.clone()).await.expect("a view");
            let house = house.with_clock(clock).set_up(|sessions| sessions.revocations(view.clone()));
            let verifier = house.verifier();
            instances.push((house, view, verifier));
        }
        // Where an act waits for time to pass, it does.
        let clocks: Vec<_> = instances.iter().map(|(house, ..)| house.clock.clone()).collect();
        tokio::spawn(async move {
            loop {
                tokio::time::sleep(TICK).await;
                clocks.iter().for_each(|clock| clock.advance(TICK));
            }
        });
        Self { store, instances, devices: Vec::new(), given: Vec::new() }
    }

    async fn act(&mut self, on: usize, act: Act) {
        let (house, count) = (&self.instances[on].0, self.devices.len());
        let (sessions, now) = (house.sessions.clone(), house.now());
        let tokens = sessions.access_tokens();
        let which = |number: usize| number.checked_rem(count);
        match act {
            Act::SignIn => {
                let reply = sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session");
                let checked = self.instances[on].2.check(&reply.access_token, now).expect("accepted");
                let session = checked.claims().session_id().expect("a session").to_owned();
                self.devices.push(Device { session, refresh_token: reply.refresh_token, is_over: false });
                self.given.push(Given { token: reply.access_token, device: count, stands: Some(true) });
            }
            Act::Renew(number) => {
                let Some(device) = which(number) else { return };
                let renewed = sessions.renew(&self.devices[device].refresh_token, RenewalRequest::default()).await;
                assert_eq!(renewed.is_err(), self.devices[device].is_over, "{:?}", renewed.err());
                if let Ok(reply) = renewed {
                    self.devices[device].refresh_token = reply.refresh_token;
                    self.given.push(Given { token: reply.access_token, device, stands: Some(true) });
                }
            }
            Act::SignOut(number) => {
                let Some(device) = which(number) else { return };
                sessions.sign_out(&self.devices[device].refresh_token, None).await.expect("signed out");
                self.over(|at, _| at == device);
            }
            Act::End(number) => {
                let Some(device) = which(number) else { return };
                sessions.end(Which::One(&self.devices[device].session)).await.expect("ended");
                self.over(|at, _| at == device);
            }
            Act::EndSubject => {
                sessions.end(Which::OfSubject("obs-0017")).await.expect("ended");
                self.over(|_, _| true);
            }
            Act::EndBeforeNow => {
                let later = now.after(Duration::from_micros(1));
                let future = sessions.end(Which::StartedBefore(later)).await;
                assert!(matches!(future, Err(EndError::Future { .. })));
                sessions.end(Which::StartedBefore(now)).await.expect("ended");
                // Which began before, the store says: of another clock's moments nobody else can tell.
                let before = self.store.of_subject("obs-0017").await.expect("sessions");
                let until = now.next_whole_sec();
                let before: Vec<_> = before.iter().filter(|session| session.facts.started_at < until).collect();
                self.over(|_, device| before.iter().any(|session| session.id == device.session));
            }
            Act::RevokeId(number) => {
                let Some(given) = number.checked_rem(self.given.len()) else { return };
                tokens.revoke_token(&self.given[given].token, None).await.expect("revoked");
                self.given[given].stands = Some(false);
            }
            Act::RevokeSession(number) => {
                let Some(device) = which(number) else { return };
                tokens.revoke(Issued::InSession(&self.devices[device].session)).await.expect("revoked");
                self.revoked(on, |given| given.device == device);
            }
            Act::RevokeSubject => {
                tokens.revoke(Issued::To("obs-0017")).await.expect("revoked");
                self.revoked(on, |_| true);
            }
            Act::RevokeAll => {
                tokens.revoke(Issued::ToAnybody).await.expect("revoked");
                self.revoked(on, |_| true);
            }
            Act::Pass(millis) => self.pass(Duration::from_millis(millis.into())),
        }
    }

    fn pass(&self, time: Duration) {
        self.instances.iter().for_each(|(house, ..)| house.clock.advance(time));
    }

    fn over(&mut self, of: impl Fn(usize, &Device) -> bool) {
        for (at, device) in self.devices.iter_mut().enumerate() {
            device.is_over |= of(at, device);
        }
        let is_over: Vec<_> = self.devices.iter().map(|device| device.is_over).collect();
        self.given.iter_mut().filter(|given| is_over[given.device]).for_each(|given| given.stands = Some(false));
    }

    /// What one instance revokes up to now. What the other one, whose clock is ahead, has issued after that moment may stand.
    fn revoked(&mut self, on: usize, of: impl Fn(&Given) -> bool) {
        let (now, verifier) = (self.instances[on].0.now(), &self.instances[on].2);
        let clocks_differ = self.instances[0].0.now() != self.instances[1].0.now();
        for given in self.given.iter_mut().filter(|given| given.stands != Some(false) && of(given)) {
            let checked = verifier.check(&given.token, now).expect("the token itself is good");
            let is_ahead = checked.claims().issued_at().is_some_and(|issued| now < issued);
            given.stands = if clocks_differ && is_ahead { None } else { Some(false) };
        }
    }

    /// Every token is let in or refused as it should be, everywhere, once everybody has heard.
    async fn is_as_it_should_be(&self) {
        for (house, view, verifier) in &self.instances {
            view.catch_up().await.expect("the feed");
            for (at, given) in self.given.iter().enumerate() {
                let now: Timestamp = house.now();
                let said = verifier.check(&given.token, now).and_then(|checked| view.check(&checked, now));
                assert!(given.stands.is_none_or(|stands| stands == said.is_ok()), "token {at}: {said:?}");
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 128, failure_persistence: None, ..ProptestConfig::default() })]

    /// Two instances whose clocks are up to 3 s apart, several acts within one second. Left out: clocks further apart than the
    /// skew that verifiers allow, acts before the news of the one before has arrived, and what is revoked by one clock of that
    /// what another, ahead of it, has issued.
    #[test]
    fn what_ends_is_over_what_is_revoked_is_refused_and_what_comes_after_stands(ahead in prop_oneof![Just(0), 0..3_000_u64], acts in acts()) {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().start_paused(true).build().expect("a runtime");
        runtime.block_on(async {
            let mut hill = Hill::new(ahead).await;
            for (on, act) in acts {
                hill.act(on, act).await;
                hill.is_as_it_should_be().await;
            }
            // Nothing comes back by the age of an entry.
            for _ in 0..20 {
                hill.pass(Duration::from_secs(60));
                for (_, view, _) in &hill.instances {
                    view.catch_up().await.expect("the feed");
                }
                let (house, view, verifier) = &hill.instances[0];
                let now = house.now();
                let comes_back = |given: &&Given| {
                    given.stands == Some(false) && verifier.check(&given.token, now).is_ok_and(|checked| view.check(&checked, now).is_ok())
                };
                assert_eq!(hill.given.iter().filter(comes_back).count(), 0);
            }
            for number in 0..hill.devices.len() {
                hill.act(0, Act::Renew(number)).await;
            }
        });
    }
}

/// More often than tokens can tell apart: it takes its time, all of it is refused, and what comes after stands.
#[tokio::test(start_paused = true)]
async fn what_is_revoked_again_and_again_is_refused_each_time() {
    let mut hill = Hill::new(0).await;
    hill.act(0, Act::SignIn).await;
    let began = hill.instances[0].0.now();
    for on in [0, 1, 0, 1, 0, 0, 1, 1] {
        hill.act(on, Act::RevokeSubject).await;
        hill.act(on, Act::Renew(0)).await;
        hill.is_as_it_should_be().await;
    }
    let took = hill.instances[0].0.now().distance(began);
    assert!((Duration::from_secs(6)..Duration::from_secs(8)).contains(&took), "{took:?}");
}
