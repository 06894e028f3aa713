//! Work that is carried out to its end, whoever waits for it, and the word that the end is near.

use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use tokio::runtime::Handle;
use tokio::sync::watch;
use tracing::Instrument;

/// Counts the work that nobody waits for any more.
#[derive(Clone, Debug, Default)]
pub(crate) struct UnderWay {
    count: Arc<watch::Sender<usize>>,
    stopping: Arc<watch::Sender<bool>>,
}

/// Nobody can break it off: where whoever waits goes away, it goes on as a task of its own.
pub(crate) struct CarriedOut<T: 'static> {
    work: Option<Pin<Box<dyn Future<Output = T> + Send>>>,
    under_way: UnderWay,
}

/// What nobody waits for has this long; its own parts have their limits, but for what the app looks up.
const LONGEST: Duration = Duration::from_secs(60);

impl UnderWay {
    /// Carries it out, and gives what came of it to whoever is still there. What it logs stands in the span of the request.
    pub(crate) fn carried_out<T>(&self, work: impl Future<Output = T> + Send + 'static) -> CarriedOut<T> {
        CarriedOut { work: Some(Box::pin(work.in_current_span())), under_way: self.clone() }
    }

    /// Waits until there is no work that nobody waits for.
    pub(crate) async fn settled(&self) {
        // It cannot be closed, since this holds the sender.
        drop(self.count.subscribe().wait_for(|count| *count == 0).await);
    }

    /// The process is about to stop.
    pub(crate) fn stop(&self) {
        self.stopping.send_replace(true);
    }

    /// Waits until it is.
    #[cfg(feature = "axum")]
    pub(crate) async fn stopping(&self) {
        drop(self.stopping.subscribe().wait_for(|stops| *stops).await);
    }
}

impl<T> Future for CarriedOut<T> {
    type Output = T;

    fn poll(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<T> {
        let Some(work) = &mut self.work else { return Poll::Pending };
        let done = work.as_mut().poll(context);
        if done.is_ready() {
            self.work = None;
        }
        done
    }
}

impl<T> Drop for CarriedOut<T> {
    fn drop(&mut self) {
        // Without a runtime there is nobody who could go on.
        let (Some(work), Ok(runtime)) = (self.work.take(), Handle::try_current()) else { return };
        let count = self.under_way.count.clone();
        count.send_modify(|count| *count += 1);
        runtime.spawn(async move {
            let _counted = Counted(count);
            drop(tokio::time::timeout(LONGEST, work).await);
        });
    }
}

struct Counted(Arc<watch::Sender<usize>>);

impl Drop for Counted {
    fn drop(&mut self) {
        self.0.send_modify(|count| *count -= 1);
    }
}
