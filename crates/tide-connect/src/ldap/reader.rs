//! The connection on which a directory is enumerated: pages are taken from it as they lie, and made
//! into accounts elsewhere, so that reading keeps up with the server.
//!
//! Everything else is spoken through the LDAP library; it takes each entry apart into maps of
//! texts, which costs three times what the server needs to send it.

use super::dial::{self, Host};
use crate::ConnectError;
use ldap3::LdapResult;
use ldap3::controls::{Control, RawControl};
use rustls_pki_types::ServerName;
use std::ops::Range;
use std::sync::Arc;
use std::time::Duration;
use tide_ldap::LdapFilter;
use tide_ldap::wire::{
    self, Entry, Message, PASSWORD_POLICY, ResponseBody, ResultMessage, SearchRequest, SearchScope,
    WireError,
};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;

trait Stream: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Stream for T {}

/// Size of one read from the connection, in octets.
const CHUNK: usize = 64 << 10;
/// Octets of a page after which its entries are passed on: a server without paging sends everything
/// as one page, and is slowed down rather than held in memory.
const PART: usize = 1 << 20;

/// A connection that is read in pages.
pub(super) struct DirectoryReader {
    stream: Box<dyn Stream>,
    url: String,
    limit: Duration,
    /// Octets that were received and not processed yet.
    rest: Vec<u8>,
    last: i32,
}

/// One page, or a part of it, as it came.
pub(super) struct RawPage {
    octets: Vec<u8>,
    entries: Vec<Range<usize>>,
    /// Other servers that the server names.
    pub referrals: Vec<String>,
    /// How the page ended, and where the next one begins (empty at the end); nothing while more of
    /// this one must come.
    pub ended: Option<(LdapResult, Vec<u8>)>,
}

impl RawPage {
    /// The entries, one by one. Each can fail for itself.
    pub fn entries<'a>(&'a self, each: &mut dyn FnMut(Entry<'a>)) -> Result<(), WireError> {
        for place in &self.entries {
            if let ResponseBody::Entry(entry) = Message::read(&self.octets[place.clone()])?.said {
                each(entry);
            }
        }
        Ok(())
    }
}

/// The error for octets that are not LDAP: the read is incomplete.
pub(super) fn protocol_error(error: WireError) -> ConnectError {
    ConnectError::transient(
        "entry_broken",
        format!("the server sent an invalid message: {error}"),
        "report it to the administrator of the server",
    )
}

fn result(outcome: ResultMessage) -> LdapResult {
    LdapResult {
        rc: outcome.code,
        matched: outcome.matched,
        text: outcome.text,
        refs: outcome.referrals,
        ctrls: Vec::new(),
    }
}

impl DirectoryReader {
    /// A connection over an open socket, with the requested protection.
    pub async fn connect_tls(
        host: &Host,
        stream: TcpStream,
        start_tls: bool,
        tls: Arc<rustls::ClientConfig>,
        limit: Duration,
    ) -> Result<Self, ConnectError> {
        // Failing to set it costs time, and nothing else.
        let _ = stream.set_nodelay(true);
        if !host.tls && !start_tls {
            return Ok(DirectoryReader {
                stream: Box::new(stream),
                url: host.url.clone(),
                limit,
                rest: Vec::new(),
                last: 0,
            });
        }
        let mut plain = DirectoryReader {
            stream: Box::new(stream),
            url: host.url.clone(),
            limit,
            rest: Vec::new(),
            last: 0,
        };
        if !host.tls {
            let answer = plain.request(wire::start_tls).await?;
            if answer.rc != 0 {
                return Err(dial::start_tls_refused(host, &answer));
            }
            // Octets received before the handshake are unprotected, and may come from anyone.
            if !plain.rest.is_empty() {
                return Err(crate::tls::handshake_error(
                    &host.name,
                    "corrupt message before the handshake",
                ));
            }
        }
        let name = ServerName::try_from(host.name.clone())
            .map_err(|error| crate::tls::handshake_error(&host.name, &error.to_string()))?;
        let shaken =
            tokio::time::timeout(limit, TlsConnector::from(tls).connect(name, plain.stream)).await;
        match shaken {
            Ok(Ok(stream)) => Ok(DirectoryReader {
                stream: Box::new(stream),
                url: plain.url,
                limit,
                rest: Vec::new(),
                last: plain.last,
            }),
            Ok(Err(error)) => Err(crate::tls::handshake_error(&host.name, &error.to_string())),
            Err(_) => Err(dial::silence_error(host, limit)),
        }
    }

    fn cut(&self, why: impl std::fmt::Display) -> ConnectError {
        dial::cut(&self.url, why)
    }

    async fn send(&mut self, message: &[u8]) -> Result<(), ConnectError> {
        let sent = tokio::time::timeout(self.limit, async {
            self.stream.write_all(message).await?;
            self.stream.flush().await
        });
        match sent.await {
            Ok(Ok(())) => Ok(()),
            Ok(Err(error)) => Err(self.cut(error)),
            Err(_) => Err(dial::timed_out(&self.url)),
        }
    }

    /// Waits for more octets, until the time-out.
    async fn receive(&mut self) -> Result<(), ConnectError> {
        self.rest.reserve(CHUNK);
        match tokio::time::timeout(self.limit, self.stream.read_buf(&mut self.rest)).await {
            Ok(Ok(0)) => Err(self.cut("it ended")),
            Ok(Ok(_)) => Ok(()),
            Ok(Err(error)) => Err(self.cut(error)),
            Err(_) => Err(dial::timed_out(&self.url)),
        }
    }

    fn next_message_id(&mut self) -> i32 {
        // Only one operation runs at a time: the message id distinguishes its answers from
        // notices.
        self.last = self.last % i32::MAX + 1;
        self.last
    }

    /// Sends a request that has one response, and waits for it.
    async fn request(
        &mut self,
        question: impl FnOnce(i32) -> Vec<u8>,
    ) -> Result<LdapResult, ConnectError> {
        let number = self.next_message_id();
        self.send(&question(number)).await?;
        loop {
            while let Some(size) = wire::frame(&self.rest).map_err(protocol_error)? {
                let octets: Vec<u8> = self.rest.drain(..size).collect();
                let message = Message::read(&octets).map_err(protocol_error)?;
                let policy = message
                    .control(PASSWORD_POLICY)
                    .map_err(protocol_error)?
                    .map(<[u8]>::to_vec);
                match message.said {
                    ResponseBody::Extended(outcome) if message.id == 0 => {
                        return Err(self.cut(notice(&outcome)));
                    }
                    ResponseBody::Bound(outcome) | ResponseBody::Extended(outcome)
                        if message.id == i64::from(number) =>
                    {
                        let mut result = result(outcome);
                        let raw = RawControl {
                            ctype: PASSWORD_POLICY.into(),
                            crit: false,
                            val: policy,
                        };
                        result.ctrls.push(Control(None, raw));
                        return Ok(result);
                    }
                    _ => {}
                }
            }
            self.receive().await?;
        }
    }

    /// Binds by name and password, or by the client certificate.
    pub async fn bind(&mut self, simple: Option<(&str, &str)>) -> Result<LdapResult, ConnectError> {
        self.request(|number| match simple {
            Some((name, password)) => wire::bind(number, name, password),
            None => wire::bind_external(number),
        })
        .await
    }

    /// Requests a page of a search, or all of it from a server without paging.
    pub async fn request_page(&mut self, ask: &SearchRequest<'_>) -> Result<(), ConnectError> {
        let number = self.next_message_id();
        self.send(&wire::search(number, ask)).await
    }

    /// Reads the next part of the requested page.
    pub async fn read_part(&mut self) -> Result<RawPage, ConnectError> {
        let (mut entries, mut referrals) = (Vec::new(), Vec::new());
        let mut at = 0;
        loop {
            while let Some(size) = wire::frame(&self.rest[at..]).map_err(protocol_error)? {
                let place = at..at + size;
                at = place.end;
                // An entry is only taken apart where it is made into an account.
                if wire::is_entry(&self.rest[place.clone()]).map_err(protocol_error)? {
                    entries.push(place);
                    continue;
                }
                let message = Message::read(&self.rest[place]).map_err(protocol_error)?;
                let next = message.next_page().map_err(|_| {
                    ConnectError::transient(
                        "page_broken",
                        "the server's paging control cannot be read",
                        "report it to the administrator of the server",
                    )
                })?;
                match message.said {
                    ResponseBody::Elsewhere(urls) => {
                        referrals.extend(urls.into_iter().map(str::to_owned))
                    }
                    ResponseBody::Done(outcome) if message.id == i64::from(self.last) => {
                        let octets = self.take_octets(at);
                        return Ok(RawPage {
                            octets,
                            entries,
                            referrals,
                            ended: Some((result(outcome), next)),
                        });
                    }
                    ResponseBody::Extended(outcome) if message.id == 0 => {
                        return Err(self.cut(notice(&outcome)));
                    }
                    _ => {}
                }
            }
            if at >= PART {
                return Ok(RawPage {
                    octets: self.take_octets(at),
                    entries,
                    referrals,
                    ended: None,
                });
            }
            self.receive().await?;
        }
    }

    /// Removes the octets before a position, which were processed.
    fn take_octets(&mut self, at: usize) -> Vec<u8> {
        let rest = self.rest.split_off(at);
        std::mem::replace(&mut self.rest, rest)
    }

    /// The texts of an attribute of the root entry.
    pub async fn root_values(&mut self, attribute: &str) -> Vec<String> {
        let everything = LdapFilter::Present("objectClass".into());
        let names = [attribute.to_owned()];
        let ask = SearchRequest {
            base: "",
            reach: SearchScope::Base,
            filter: &everything,
            attributes: &names,
            page: None,
        };
        let mut texts = Vec::new();
        // Asked to word an error better: without an answer it is worded as for any server.
        if self.request_page(&ask).await.is_ok()
            && let Ok(page) = self.read_part().await
        {
            let _ = page.entries(&mut |entry| {
                for (_, values) in entry.attributes() {
                    texts.extend(values.map(|value| String::from_utf8_lossy(value).into_owned()));
                }
            });
        }
        texts
    }

    /// Sends an unbind request.
    pub async fn unbind(mut self) {
        let farewell = wire::unbind(self.next_message_id());
        // A failed unbind does not affect what was read.
        let _ = self.send(&farewell).await;
        let _ = self.stream.shutdown().await;
    }
}

fn notice(outcome: &ResultMessage) -> String {
    format!(
        "the server ends it (code {}) {}",
        outcome.code, outcome.text
    )
}
