//! Webhooks: one signed POST to an address that the rules name.
//!
//! Requests have an HTTP message signature (RFC 9421) with HMAC-SHA256 (§3.3.3) over the method,
//! the URL and the digest of the body (RFC 9530), so that the receiver can verify the sender and
//! the content.

use crate::scim::http::{build_client, check_secret};
use crate::tls::Trust;
use crate::{ConnectError, Secret};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit, Mac};
use jiff::Timestamp;
use reqwest::{Client, StatusCode, Url};
use serde_json::Value as Json;
use sha2::{Digest, Sha256};
use std::time::Duration;

/// Maximum size of a response that is kept, in octets.
const LONGEST: usize = 4096;

/// An address that is called.
pub struct WebhookSender {
    name: String,
    url: Url,
    client: Client,
    secret: Secret,
}

impl WebhookSender {
    /// A call to this address, signed with this secret. Redirects are not followed, and the
    /// addresses that are never called are refused.
    pub fn new(
        name: &str,
        url: &str,
        timeout_seconds: u32,
        secret: Secret,
    ) -> Result<Self, ConnectError> {
        let url = check_secret(url)?;
        let loopback = matches!(url.host_str(), Some("localhost" | "127.0.0.1" | "[::1]"));
        if url.scheme() == "http" && !loopback {
            return Err(ConnectError::permanent(
                "url",
                format!("{url} would send secrets in clear text"),
                "use https://",
            ));
        }
        let tls = crate::tls::client_config(&Trust {
            ca_pem: None,
            pin: None,
            own: None,
        })?;
        let client = build_client(&tls, Duration::from_secs(u64::from(timeout_seconds.max(1))))?;
        Ok(WebhookSender {
            name: name.to_owned(),
            url,
            client,
            secret,
        })
    }

    /// Sends this body. It counts as delivered if the response is a success (2xx). Returns the
    /// response body, if it is JSON and not too long.
    pub async fn send(&self, body: &Json, now: Timestamp) -> Result<Option<Json>, ConnectError> {
        let body = body.to_string();
        let digest = format!(
            "sha-256=:{}:",
            STANDARD.encode(Sha256::digest(body.as_bytes()))
        );
        let (input, signature) = sign_request(
            &self.name,
            self.url.as_str(),
            &digest,
            now,
            self.secret.expose(),
        )?;
        let host = self.url.host_str().unwrap_or_default().to_owned();
        let sent = self
            .client
            .post(self.url.clone())
            .header("content-type", "application/json")
            .header("content-digest", digest)
            .header("signature-input", format!("tide={input}"))
            .header("signature", format!("tide=:{signature}:"))
            .body(body)
            .send()
            .await;
        let mut response = match sent {
            Ok(response) => response,
            // The error of the client may contain the address, but nothing of the body.
            Err(error) if error.is_timeout() => {
                return Err(ConnectError::transient(
                    "timeout",
                    format!("{host} does not answer in time"),
                    "retried automatically",
                ));
            }
            Err(error) => {
                return Err(ConnectError::transient(
                    "cut",
                    format!("{host} cannot be called: {}", error.without_url()),
                    "retried automatically",
                ));
            }
        };
        match response.status() {
            status if status.is_success() => {
                let mut said: Vec<u8> = Vec::new();
                // It was accepted: an answer that breaks off, or is too long, is ignored.
                while let Ok(Some(part)) = response.chunk().await {
                    said.extend_from_slice(&part);
                    if said.len() > LONGEST {
                        return Ok(None);
                    }
                }
                Ok(serde_json::from_slice(&said).ok())
            }
            StatusCode::TOO_MANY_REQUESTS => Err(ConnectError::transient(
                "busy",
                format!("{host} requests a pause"),
                "retried automatically",
            )),
            status if status.is_server_error() => Err(ConnectError::transient(
                "server_error",
                format!("{host} answers {status}"),
                "retried automatically",
            )),
            status => Err(ConnectError::permanent(
                "refused",
                format!("{host} rejects the request: {status}"),
                format!(
                    "check that it has our secret: `eager-tide webhooks secret {}`",
                    self.name
                ),
            )),
        }
    }
}

/// The signature's parameters and the signature (RFC 9421 §2.5, §3.1).
fn sign_request(
    key: &str,
    url: &str,
    digest: &str,
    now: Timestamp,
    secret: &str,
) -> Result<(String, String), ConnectError> {
    let input = format!(
        r#"("@method" "@target-uri" "content-digest");created={};keyid="{key}";alg="hmac-sha256""#,
        now.as_second()
    );
    let base = format!(
        "\"@method\": POST\n\"@target-uri\": {url}\n\"content-digest\": {digest}\n\"@signature-params\": {input}"
    );
    let mut mac = Hmac::<Sha256>::new_from_slice(secret.as_bytes()).map_err(|error| {
        ConnectError::permanent(
            "secret",
            format!("the secret cannot sign: {error}"),
            "set another one",
        )
    })?;
    mac.update(base.as_bytes());
    Ok((input, STANDARD.encode(mac.finalize().into_bytes())))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_signature_is_that_of_the_standard() {
        let now = Timestamp::from_second(1_618_884_473).expect("in range");
        let (input, signature) = sign_request(
            "desk",
            "https://desk.skerry.example/new",
            "sha-256=:abc=:",
            now,
            "key",
        )
        .expect("signs");
        assert_eq!(
            input,
            r#"("@method" "@target-uri" "content-digest");created=1618884473;keyid="desk";alg="hmac-sha256""#
        );
        // Worked out with another tool: openssl dgst -sha256 -hmac key
        assert_eq!(signature, "5Cw2BfbuVe82aeB4lApSkStHJi9Ug9M1Ui7OCg6jT70=");
        let changed = sign_request(
            "desk",
            "https://desk.skerry.example/old",
            "sha-256=:abc=:",
            now,
            "key",
        )
        .expect("signs")
        .1;
        assert_ne!(signature, changed, "another address is another signature");
    }

    #[tokio::test]
    async fn what_would_travel_in_clear_text_is_refused() {
        let secret = || Secret::new("s");
        let error = WebhookSender::new("desk", "http://desk.skerry.example/new", 5, secret())
            .err()
            .expect("refused");
        assert!(error.to_string().contains("clear text"), "{error}");
        assert!(WebhookSender::new("desk", "https://169.254.169.254/", 5, secret()).is_err());
        assert!(WebhookSender::new("desk", "http://127.0.0.1:9/", 5, secret()).is_ok());
    }
}
