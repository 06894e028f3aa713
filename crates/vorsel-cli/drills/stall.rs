//! Whoever keeps asking is not signed out because a store stood still.

use std::time::{Duration, Instant};

use tokio::time::sleep;

use crate::clients::{CLIENTS, Clients};
use crate::faults::Fault;
use crate::{Outcome, Site};

const WORKS_AGAIN_WITHIN: Duration = Duration::from_secs(20);

pub(crate) async fn drill(store: &'static str, fault: Fault) -> Option<Outcome> {
    let mut site = Site::on(store).await?;
    let instances = [site.instance(), site.instance()];
    let clients = Clients::at_work(&instances, true).await;
    sleep(Duration::from_secs(1)).await;
    fault.happen(&mut site).await;
    let over_at = Instant::now();
    let Some(lives) = clients.come_to_an_end().await else {
        let line = format!("{store}: {:?} for {:?}: clients still wait a minute after", fault.how, fault.lasting);
        return Some(Outcome { line, kept: false });
    };
    let out: Vec<_> = lives.iter().filter_map(|life| life.signed_out.as_ref()).collect();
    let last = lives.iter().map(|life| life.renewed_at).max().unwrap_or(over_at);
    let again = last.saturating_duration_since(over_at);
    let why = out.first().map(|why| format!(", as {why}")).unwrap_or_default();
    let line = format!(
        "{store}: {:?} for {:?}: {} of {CLIENTS} honest clients signed out{why}; all served {again:.1?} after it was over",
        fault.how,
        fault.lasting,
        out.len(),
    );
    Some(Outcome { line, kept: out.is_empty() && again <= WORKS_AGAIN_WITHIN })
}
