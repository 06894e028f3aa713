//! Forgetting what is over, without being asked again and again.

use std::fmt;
use std::time::Duration;

use serde::Serialize;
use tokio::task::JoinHandle;
use tokio::time::sleep;
use vorsel_core::with_causes;

use super::Sessions;

/// Purges for as long as it is kept.
///
/// ```
/// # async fn example(sessions: &vorsel::Sessions<vorsel::NoOwn>) -> Result<(), Box<dyn std::error::Error>> {
/// let housekeeping = sessions.keep_house(); // what is over is forgotten for as long as somebody has this
/// # Ok(())
/// # }
/// ```
#[must_use = "dropped at once, it purges nothing"]
pub struct Housekeeping(JoinHandle<()>);

impl Drop for Housekeeping {
    fn drop(&mut self) {
        self.0.abort();
    }
}

impl fmt::Debug for Housekeeping {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Housekeeping")
    }
}

const EVERY: Duration = Duration::from_secs(60);

impl<C: Serialize + Send + Sync + 'static> Sessions<C> {
    /// [Purges](Self::purge) once a minute on the current tokio runtime, until what this returns is dropped. What the store can't do now, it
    /// does later; each instance may do it.
    ///
    /// # Panics
    /// Outside of a tokio runtime.
    pub fn keep_house(&self) -> Housekeeping {
        let sessions = self.clone();
        Housekeeping(tokio::spawn(async move {
            loop {
                sleep(EVERY).await;
                if let Err(error) = sessions.purge().await {
                    tracing::warn!(target: "vorsel::sessions", "what is over is kept for now: {}", with_causes(&error));
                }
            }
        }))
    }
}
