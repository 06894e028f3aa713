//! A ticket in the query.

use vorsel_core::{Credential, Refusal};

use super::source::{Shown, Source};
use crate::guard::request::RequestHead;

/// The query parameter of this name. Sockets and event sources are opened by GET, or in HTTP/2 by CONNECT (RFC 8441 section 4); in other
/// requests it means nothing.
#[derive(Debug)]
pub(in crate::guard) struct TicketSource(pub(in crate::guard) String);

impl Source for TicketSource {
    fn kind(&self) -> Credential {
        Credential::Ticket
    }

    fn find<'r>(&self, request: &'r dyn RequestHead) -> Result<Option<Shown<'r>>, Refusal> {
        let (true, Some(query)) = (matches!(request.method(), "GET" | "CONNECT"), request.query()) else {
            return Ok(None);
        };
        let mut values = query.split('&').filter_map(|pair| pair.strip_prefix(self.0.as_str())?.strip_prefix('='));
        match (values.next(), values.next()) {
            (_, Some(_)) => Err(Refusal::BadTicket { found: "two".to_owned() }),
            (ticket, None) => Ok(ticket.map(Shown::Ticket)),
        }
    }
}
