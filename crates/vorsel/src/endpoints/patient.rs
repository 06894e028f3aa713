//! Connections whose end is told a moment later.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use axum::serve::Listener;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::{Sleep, sleep};

/// Hears requests out: that the other side has closed its connection is told 100 ms later, so that a request that came whole
/// before it reaches its handler. Without this a server drops what it has read if the end comes along with it, and nothing of
/// the library has heard of it.
///
/// ```no_run
/// # async fn run(app: vorsel::GuardedApp) -> std::io::Result<()> {
/// let listener = tokio::net::TcpListener::bind("127.0.0.1:8080").await?;
/// axum::serve(vorsel::endpoints::Patient::new(listener), app).await
/// # }
/// ```
#[derive(Debug)]
pub struct Patient<L>(L);

/// A connection of a [`Patient`] listener.
///
/// ```no_run
/// # async fn example(app: axum::Router) -> Result<(), Box<dyn std::error::Error>> {
/// use tokio::net::TcpListener;
/// use vorsel::endpoints::Patient;
///
/// // axum makes one of each connection that this listener accepts.
/// axum::serve(Patient::new(TcpListener::bind("127.0.0.1:7700").await?), app).await?;
/// # Ok(())
/// # }
/// ```
#[derive(Debug)]
pub struct PatientIo<I> {
    io: I,
    /// Begins with the end of what the other side sends.
    moment: Option<Pin<Box<Sleep>>>,
}

const MOMENT: Duration = Duration::from_millis(100);

impl<L> Patient<L> {
    /// Listens as this listener does.
    pub const fn new(listener: L) -> Self {
        Self(listener)
    }
}

impl<L: Listener> Listener for Patient<L> {
    type Io = PatientIo<L::Io>;
    type Addr = L::Addr;

    async fn accept(&mut self) -> (Self::Io, Self::Addr) {
        let (io, address) = self.0.accept().await;
        (PatientIo { io, moment: None }, address)
    }

    fn local_addr(&self) -> io::Result<Self::Addr> {
        self.0.local_addr()
    }
}

impl<I: AsyncRead + Unpin> AsyncRead for PatientIo<I> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        if self.moment.is_none() {
            let before = (buffer.filled().len(), buffer.remaining());
            let read = Pin::new(&mut self.io).poll_read(context, buffer);
            let is_end = matches!(read, Poll::Ready(Ok(()))) && before.1 > 0 && buffer.filled().len() == before.0;
            if !is_end {
                return read;
            }
        }
        let moment = self.moment.get_or_insert_with(|| Box::pin(sleep(MOMENT)));
        moment.as_mut().poll(context).map(Ok)
    }
}

impl<I: AsyncWrite + Unpin> AsyncWrite for PatientIo<I> {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.io).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.io).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.io).poll_shutdown(context)
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffers: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.io).poll_write_vectored(context, buffers)
    }

    fn is_write_vectored(&self) -> bool {
        self.io.is_write_vectored()
    }
}
