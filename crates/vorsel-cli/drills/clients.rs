//! Honest clients: each renews again and again, and comes again with the same token until it hears something.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use tokio::task::JoinSet;
use tokio::time::{sleep, timeout};

use crate::instance::{Caller, Instance};

pub(crate) const CLIENTS: usize = 60;
const LONGEST_WAIT: Duration = Duration::from_secs(60);

/// Clients at work.
pub(crate) struct Clients {
    enough: Arc<AtomicBool>,
    at_work: JoinSet<Life>,
}

/// What became of a client.
pub(crate) struct Life {
    /// What it was told, if it was signed out.
    pub(crate) signed_out: Option<String>,
    /// When it was last told a new token.
    pub(crate) renewed_at: Instant,
    /// The longest time from one new token to the next.
    pub(crate) longest_unserved: Duration,
}

impl Clients {
    /// Signs them in. Half of them go from instance to instance, the others keep to their own; or all of them do.
    pub(crate) async fn at_work(instances: &[Instance], half_go_round: bool) -> Self {
        let mut signing_in = JoinSet::new();
        for number in 0..CLIENTS {
            let callers: Vec<Caller> = instances.iter().map(Instance::caller).collect();
            signing_in.spawn(async move {
                let token = callers[number % callers.len()].sign_in("obs-0017").await.1;
                (callers, token, number)
            });
        }
        let (enough, mut at_work) = (Arc::new(AtomicBool::new(false)), JoinSet::new());
        for (callers, token, number) in signing_in.join_all().await {
            let in_turn = half_go_round && number % 4 < 2;
            at_work.spawn(live(callers, token, number, in_turn, enough.clone()));
        }
        Self { enough, at_work }
    }

    /// Lets each come to its next answer, and tells what became of them; nothing if some still wait after a minute.
    pub(crate) async fn come_to_an_end(self) -> Option<Vec<Life>> {
        self.enough.store(true, Ordering::Relaxed);
        timeout(LONGEST_WAIT, self.at_work.join_all()).await.ok()
    }
}

async fn live(callers: Vec<Caller>, mut token: String, number: usize, in_turn: bool, enough: Arc<AtomicBool>) -> Life {
    let (mut attempt, mut renewed_at, mut longest_unserved) = (number, Instant::now(), Duration::ZERO);
    loop {
        let mut is_waiting = false;
        if in_turn {
            attempt += 1;
        }
        match callers[attempt % callers.len()].renew(&token).await {
            Ok((200, reply)) => {
                reply["refresh_token"].as_str().expect("a token").clone_into(&mut token);
                longest_unserved = longest_unserved.max(renewed_at.elapsed());
                renewed_at = Instant::now();
            }
            Ok((503, _)) | Err(_) => is_waiting = true,
            Ok((status, reply)) => {
                return Life { signed_out: Some(format!("{status} {reply}")), renewed_at, longest_unserved };
            }
        }
        if enough.load(Ordering::Relaxed) && !is_waiting {
            return Life { signed_out: None, renewed_at, longest_unserved };
        }
        sleep(Duration::from_millis(if is_waiting { 100 } else { 200 + 7 * number as u64 })).await;
    }
}
