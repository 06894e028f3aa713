//! Bodies that come in time, and bodies that keep a connection busy.

use std::error::Error;
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use http_body::{Body, Frame, SizeHint};
use pin_project_lite::pin_project;
use tokio::time::{Sleep, sleep};

type BoxError = Box<dyn Error + Send + Sync>;

pin_project! {
    /// A request's body that has to have come whole by some moment.
    pub(super) struct ByDeadline<B> {
        #[pin]
        body: B,
        #[pin]
        late: Sleep,
    }
}

impl<B> ByDeadline<B> {
    pub(super) fn new(body: B, within: Duration) -> Self {
        Self { body, late: sleep(within) }
    }
}

impl<B: Body> Body for ByDeadline<B>
where
    B::Error: Into<BoxError>,
{
    type Data = B::Data;
    type Error = BoxError;

    fn poll_frame(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<Result<Frame<B::Data>, BoxError>>> {
        let parts = self.project();
        if let Poll::Ready(frame) = parts.body.poll_frame(context) {
            return Poll::Ready(frame.map(|frame| frame.map_err(Into::into)));
        }
        parts.late.poll(context).map(|()| Some(Err("the body did not come in time".into())))
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}

pin_project! {
    /// An answer's body that holds something until it is out.
    pub(super) struct Held<B, H> {
        #[pin]
        body: B,
        held: H,
    }
}

impl<B, H> Held<B, H> {
    pub(super) const fn new(body: B, held: H) -> Self {
        Self { body, held }
    }
}

impl<B: Body, H> Body for Held<B, H> {
    type Data = B::Data;
    type Error = B::Error;

    fn poll_frame(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<Result<Frame<B::Data>, B::Error>>> {
        self.project().body.poll_frame(context)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}
