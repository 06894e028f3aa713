//! Requests of `reqwest`, with a token that is renewed if it has to be.

use reqwest::{RequestBuilder, Response};

use super::error::{SendError, refused, says_invalid_token};
use super::flight::TokenKeeper;

impl TokenKeeper {
    /// Sends a request with the access token. After 401 with `invalid_token` the token is renewed once and the request sent once more; any
    /// other 401 is an error, and so is a second one. A body that is a stream can't be sent again, and isn't.
    ///
    /// # Errors
    /// If there is no token, the API does not take it, the body can't be repeated, or the request fails.
    pub async fn send(&self, request: RequestBuilder) -> Result<Response, SendError<reqwest::Error>> {
        let token = self.token().await?;
        let again = request.try_clone();
        let response = sent(request, &token).await?;
        let Some(challenge) = refused(response.status(), response.headers()) else { return Ok(response) };
        if !says_invalid_token(&challenge) {
            return Err(SendError::Unauthorized { challenge });
        }
        let fresh = self.instead_of(&token).await?;
        let response = sent(again.ok_or(SendError::NotRepeated)?, &fresh).await?;
        match refused(response.status(), response.headers()) {
            None => Ok(response),
            Some(challenge) => {
                self.refused_again();
                Err(SendError::Unauthorized { challenge })
            }
        }
    }
}

async fn sent(request: RequestBuilder, token: &str) -> Result<Response, SendError<reqwest::Error>> {
    request.bearer_auth(token).send().await.map_err(SendError::Failed)
}
