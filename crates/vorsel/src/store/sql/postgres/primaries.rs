//! Looks whether more than one of the hosts takes writes, as after a fail-over that the old primary has survived.

use std::sync::Arc;
use std::time::Duration;

use tokio::task::AbortHandle;
use tokio::time::sleep;

use super::hosts::Hosts;

/// A connection to each host, so often.
const LOOK_EVERY: Duration = Duration::from_secs(10);

/// Looks for as long as somebody has it.
#[derive(Debug)]
pub(super) struct LookOut(AbortHandle);

impl LookOut {
    /// Nothing where there is one host, or where any will do: then nobody can tell from here.
    pub(super) fn over(hosts: &Arc<Hosts>) -> Option<Self> {
        hosts.tell_apart().then(|| Self(tokio::spawn(look(hosts.clone())).abort_handle()))
    }
}

impl Drop for LookOut {
    fn drop(&mut self) {
        self.0.abort();
    }
}

async fn look(hosts: Arc<Hosts>) {
    let mut before = Vec::new();
    loop {
        let primaries = hosts.that_take_writes().await;
        if primaries.len() > 1 && primaries != before {
            tracing::error!(
                target: "vorsel::store",
                "expected one host that takes writes, but found {}: {}; what is written to one of them, sign-outs too, is not on the other. \
                 Stop all but one",
                primaries.len(),
                primaries.join(", ")
            );
        } else if primaries.len() < 2 && before.len() > 1 {
            tracing::info!(target: "vorsel::store", "no more than one host takes writes again");
        }
        before = primaries;
        sleep(LOOK_EVERY).await;
    }
}
