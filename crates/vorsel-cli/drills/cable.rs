//! A way to the store that can fall silent without being closed.

use std::sync::Arc;
use std::sync::atomic::{AtomicU16, Ordering};
use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;

/// Connections that were made before this many others carry nothing; all of them do while it is the largest number.
type SilentBelow = u64;

pub(crate) struct Cable {
    pub(crate) port: u16,
    silent_below: Arc<watch::Sender<SilentBelow>>,
    made: Arc<std::sync::atomic::AtomicU64>,
    leads_to: Arc<AtomicU16>,
}

impl Cable {
    pub(crate) async fn to(port: u16) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let here = listener.local_addr().expect("an address").port();
        let (silent_below, made) = (Arc::new(watch::Sender::new(0)), Arc::new(std::sync::atomic::AtomicU64::new(0)));
        let (silent, count) = (silent_below.clone(), made.clone());
        let leads_to = Arc::new(AtomicU16::new(port));
        let target = leads_to.clone();
        tokio::spawn(async move {
            while let Ok((near, _)) = listener.accept().await {
                let number = count.fetch_add(1, Ordering::Relaxed);
                let (silent, port) = (silent.subscribe(), target.load(Ordering::Relaxed));
                tokio::spawn(async move {
                    let Ok(far) = TcpStream::connect(("127.0.0.1", port)).await else { return };
                    let _ = (near.set_nodelay(true), far.set_nodelay(true));
                    let ((near_in, near_out), (far_in, far_out)) = (near.into_split(), far.into_split());
                    tokio::select! {
                        () = carry(near_in, far_out, silent.clone(), number) => {}
                        () = carry(far_in, near_out, silent, number) => {}
                    }
                });
            }
        });
        Self { port: here, silent_below, made, leads_to }
    }

    /// New connections lead to another server.
    pub(crate) fn lead_to(&self, port: u16) {
        self.leads_to.store(port, Ordering::Relaxed);
    }

    /// Nothing gets through any more, on old connections and new ones.
    pub(crate) fn cut(&self) {
        self.silent_below.send_replace(SilentBelow::MAX);
    }

    /// What was sent meanwhile arrives late.
    pub(crate) fn mend(&self) {
        self.silent_below.send_replace(0);
    }

    /// The connections that there are carry nothing any more; new ones do.
    pub(crate) fn lose_what_is_connected(&self) {
        self.silent_below.send_replace(self.made.load(Ordering::Relaxed));
    }
}

async fn carry(
    mut from: tokio::net::tcp::OwnedReadHalf,
    mut to: tokio::net::tcp::OwnedWriteHalf,
    mut silent: watch::Receiver<SilentBelow>,
    number: u64,
) {
    let mut buffer = vec![0; 64 * 1024];
    while let Ok(count @ 1..) = from.read(&mut buffer).await {
        if silent.wait_for(|below| number >= *below).await.is_err() || to.write_all(&buffer[..count]).await.is_err() {
            return;
        }
    }
    // An end is as silent as everything else.
    let _ = silent.wait_for(|below| number >= *below).await;
    let _ = tokio::time::timeout(Duration::from_secs(1), to.shutdown()).await;
}
