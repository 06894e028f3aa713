//! What a whole request asked for is carried out, whoever hangs up.

use std::time::Duration;

use tokio::io::AsyncWriteExt;
use tokio::net::TcpStream;
use tokio::time::sleep;

use crate::{Outcome, Site};

const EACH: usize = 25;
const DELAYS: [u64; 5] = [0, 1, 3, 5, 10];

pub(crate) async fn drill(store: &'static str) -> Option<Outcome> {
    let site = Site::on(store).await?;
    let instance = site.instance();
    let caller = instance.caller();
    let mut not_carried_out = Vec::new();
    for delay in DELAYS {
        let mut tokens = Vec::new();
        for _ in 0..EACH {
            tokens.push(caller.sign_in("obs-0017").await.1);
        }
        for token in &tokens {
            let body = format!("token={token}&client_id=desk");
            let request = format!(
                "POST /oauth/revoke HTTP/1.1\r\nHost: hill\r\nContent-Type: application/x-www-form-urlencoded\r\n\
                 Content-Length: {}\r\n\r\n{body}",
                body.len()
            );
            let mut stream = TcpStream::connect(instance.address()).await.expect("a connection");
            stream.write_all(request.as_bytes()).await.expect("a request");
            sleep(Duration::from_millis(delay)).await;
        }
        sleep(Duration::from_secs(3)).await;
        let mut alive = 0;
        for token in &tokens {
            alive += usize::from(caller.renew(token).await.expect("an answer").0 == 200);
        }
        not_carried_out.push(format!("{alive} at {delay} ms"));
    }
    let kept = not_carried_out.iter().all(|alive| alive.starts_with("0 "));
    let line = format!("{store}: hang-ups: of {EACH} sign-outs each, not carried out: {}", not_carried_out.join(", "));
    Some(Outcome { line, kept })
}
