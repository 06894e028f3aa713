//! Connections that carry nothing any more, while new ones do.

use std::time::{Duration, Instant};

use tokio::time::sleep;

use crate::clients::{CLIENTS, Clients};
use crate::{Outcome, Site};

const WORKS_AGAIN_WITHIN: Duration = Duration::from_secs(20);

pub(crate) async fn drill(store: &'static str) -> Option<Outcome> {
    let site = Site::on(store).await?;
    let instances = [site.instance(), site.instance()];
    let clients = Clients::at_work(&instances, false).await;
    sleep(Duration::from_secs(1)).await;
    site.cable.as_ref().expect("a cable").lose_what_is_connected();
    let since = Instant::now();
    sleep(WORKS_AGAIN_WITHIN * 3 / 2).await;
    let Some(lives) = clients.come_to_an_end().await else {
        let line = format!("{store}: old connections silent: clients still wait after {:.0?}", since.elapsed());
        return Some(Outcome { line, kept: false });
    };
    let out = lives.iter().filter(|life| life.signed_out.is_some()).count();
    let longest = lives.iter().map(|life| life.longest_unserved).max().unwrap_or_default();
    let line = format!(
        "{store}: old connections silent: {out} of {CLIENTS} honest clients signed out, none unserved for longer than \
         {longest:.1?}"
    );
    Some(Outcome { line, kept: out == 0 && longest <= WORKS_AGAIN_WITHIN })
}
