//! Waits that say what they wait for.

use std::pin::pin;
use std::time::Duration;

use tokio::time::timeout;

/// A wait that takes longer is told, again and again.
const QUIET_FOR: Duration = Duration::from_secs(2);

/// Awaits an answer; the log says what is waited for as long as there is none.
pub(crate) async fn told<T>(what: &'static str, answer: impl Future<Output = T>) -> T {
    let mut answer = pin!(answer);
    loop {
        if let Ok(answer) = timeout(QUIET_FOR, &mut answer).await {
            return answer;
        }
        tracing::warn!(target: "vorsel::waiting", "still waiting for {what}");
    }
}
