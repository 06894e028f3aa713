//! Nothing that one host holds holds up the others for long.

use std::time::{Duration, Instant};

use tokio::task::JoinSet;
use tokio::time::sleep;

use crate::cable::Cable;
use crate::faults::hold;
use crate::instance::{Answer, Caller};
use crate::{Outcome, Site};

const EACH: usize = 32;
/// The hosts that die, each at another moment of what it writes.
const HOSTS: u64 = 3;
const WORKS_AGAIN_WITHIN: Duration = Duration::from_secs(20);

/// Signs these out at once; how many were not, and how long the last took.
async fn sign_out(caller: &Caller, tokens: Vec<String>) -> (usize, Duration) {
    let (since, mut under_way) = (Instant::now(), JoinSet::new());
    for token in tokens {
        let caller = caller.clone();
        under_way.spawn(async move { caller.revoke(&token).await });
    }
    let done = under_way.join_all().await;
    (done.iter().filter(|answer| !is_served(answer)).count(), since.elapsed())
}

fn is_served(answer: &Answer) -> bool {
    matches!(answer, Ok((200, _)))
}

async fn signed_in(caller: &Caller) -> Vec<String> {
    let mut signing_in = JoinSet::new();
    for _ in 0..EACH {
        let caller = caller.clone();
        signing_in.spawn(async move { caller.sign_in("obs-0017").await.1 });
    }
    signing_in.join_all().await
}

pub(crate) async fn by_a_dying_host(store: &'static str) -> Option<Outcome> {
    let site = Site::on(store).await?;
    let other = site.instance();
    let port = site.server.as_ref().expect("a server").port;
    let (mut failed, mut longest) = (0, Duration::ZERO);
    for number in 0..HOSTS {
        let cable = Cable::to(port).await;
        let dying = site.instance_by(&cable);
        let (theirs, ours) = (signed_in(&dying.caller()).await, signed_in(&other.caller()).await);
        let under_way = {
            let caller = dying.caller();
            tokio::spawn(async move { sign_out(&caller, theirs).await })
        };
        sleep(Duration::from_millis(20 + 30 * number)).await;
        cable.cut();
        let (not_out, took) = sign_out(&other.caller(), ours).await;
        failed += not_out;
        longest = longest.max(took);
        under_way.abort();
    }
    let line = format!(
        "{store}: {HOSTS} hosts that die inside sign-outs: {failed} of {} sign-outs elsewhere not carried out, the longest \
         took {longest:.1?}",
        EACH as u64 * HOSTS
    );
    Some(Outcome { line, kept: failed == 0 && longest <= WORKS_AGAIN_WITHIN })
}

/// What somebody else has locked.
#[derive(Clone, Copy, Debug)]
pub(crate) enum What {
    /// The feed, so that nobody can be signed out.
    Feed,
    /// One session, that is signed out with the others.
    OneSession,
}

pub(crate) async fn by_a_lock(store: &'static str, what: What, is_long: bool) -> Option<Outcome> {
    let site = Site::on(store).await?;
    let instances = [site.instance(), site.instance()];
    let [out, renewing] = [signed_in(&instances[0].caller()).await, signed_in(&instances[1].caller()).await];
    let held = match what {
        What::Feed => "LOCK TABLE vorsel_feed IN EXCLUSIVE MODE",
        What::OneSession => "SELECT id FROM vorsel_sessions ORDER BY started_at LIMIT 1 FOR UPDATE",
    };
    let mut holder = hold(&site, held);
    sleep(Duration::from_millis(500)).await;
    let lasting = Duration::from_secs(if is_long { 25 } else { 8 });
    let (since, mut renewals, mut under_way) = (Instant::now(), [0; 2], JoinSet::new());
    for (number, token) in out.into_iter().enumerate() {
        let caller = instances[number % 2].caller();
        // Whoever signs out comes again until it is done.
        under_way.spawn(async move {
            while !is_served(&caller.revoke(&token).await) {
                sleep(Duration::from_millis(200)).await;
            }
            since.elapsed()
        });
    }
    sleep(Duration::from_millis(300)).await;
    let (mut tokens, mut longest) = (renewing, Duration::ZERO);
    while since.elapsed() < lasting {
        for (number, token) in tokens.iter_mut().enumerate().take(8) {
            let asked = Instant::now();
            let answer = instances[number % 2].caller().renew(token).await;
            renewals[usize::from(!is_served(&answer))] += 1;
            longest = longest.max(asked.elapsed());
            if let Ok((200, reply)) = answer {
                reply["refresh_token"].as_str().expect("a token").clone_into(token);
            }
        }
    }
    drop(holder.stdin.take());
    holder.wait().expect("the end of the lock");
    let over_at = since.elapsed();
    let done = under_way.join_all().await;
    let meanwhile = done.iter().filter(|took| **took < over_at).count();
    let last = done.iter().max().copied().unwrap_or_default().saturating_sub(over_at);
    let line = format!(
        "{store}: {what:?} locked for {lasting:?}: {} of {} renewals not served, the longest took {longest:.1?}; \
         {meanwhile} of {EACH} signed out meanwhile, all {last:.1?} after",
        renewals[1],
        renewals[0] + renewals[1],
    );
    let as_expected = matches!(what, What::Feed) || meanwhile >= EACH - 1;
    Some(Outcome { line, kept: renewals[1] == 0 && as_expected && last <= WORKS_AGAIN_WITHIN })
}
