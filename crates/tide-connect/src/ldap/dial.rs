//! Dialling: name, port, TLS, bind. Each step that fails has a message of its own.

use crate::{CheckReport, ConnectError, LdapSettings, Secret};
use ldap3::{Ldap, LdapConnAsync, LdapConnSettings, LdapError, StdStream};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpStream;

struct Host {
    tls: bool,
    name: String,
    port: u16,
}

pub(super) fn seconds(settings: &LdapSettings) -> Duration {
    Duration::from_secs(u64::from(settings.timeout_seconds.max(1)))
}

fn host(url: &str) -> Result<Host, ConnectError> {
    let wrong = |what: &str| {
        ConnectError::lasting(
            "url",
            format!("`{url}` is not an LDAP address: {what}"),
            "for example: ldap://harbour.skerry.example:389 or ldaps://harbour.skerry.example",
        )
    };
    let (tls, rest) = match url.split_once("://") {
        Some(("ldap", rest)) => (false, rest),
        Some(("ldaps", rest)) => (true, rest),
        _ => return Err(wrong("it begins neither with ldap:// nor with ldaps://")),
    };
    let rest = rest.trim_end_matches('/');
    let (name, port) = match rest.rsplit_once(':') {
        Some((name, port)) if !port.contains(']') => (name, port.parse().map_err(|_| wrong("the port is no number"))?),
        _ => (rest, if tls { 636 } else { 389 }),
    };
    let name = name.trim_start_matches('[').trim_end_matches(']');
    if name.is_empty() || name.contains(['/', '@', '?']) {
        return Err(wrong("it names no host"));
    }
    Ok(Host { tls, name: name.to_owned(), port })
}

async fn resolve(host: &Host) -> Result<Vec<SocketAddr>, ConnectError> {
    let found: Vec<SocketAddr> = tokio::net::lookup_host((host.name.as_str(), host.port))
        .await
        .map_err(|error| {
            ConnectError::system(
                "name_unknown",
                format!("the name {} cannot be resolved: {error}", host.name),
                "check the spelling, and the name servers of this machine",
            )
        })?
        .collect();
    for address in &found {
        crate::tls::refuse_address(address.ip())?;
    }
    Ok(found)
}

async fn open(settings: &LdapSettings, host: &Host, addresses: &[SocketAddr]) -> Result<TcpStream, ConnectError> {
    let place = format!("{}:{}", host.name, host.port);
    match tokio::time::timeout(seconds(settings), TcpStream::connect(addresses)).await {
        Ok(Ok(stream)) => Ok(stream),
        Ok(Err(error)) => Err(ConnectError::system(
            "unreachable",
            format!("nothing answers at {place}: {error}"),
            "check host, port and firewall, and that the server runs",
        )),
        Err(_) => Err(ConnectError::system(
            "unreachable",
            format!("{place} does not answer within {} s", settings.timeout_seconds),
            "check host, port and firewall, and that the server runs",
        )),
    }
}

async fn secure(settings: &LdapSettings, host: &Host, stream: TcpStream, tls: &Arc<rustls::ClientConfig>) -> Result<Ldap, ConnectError> {
    let local = |error: std::io::Error| ConnectError::passing("socket", format!("the connection cannot be prepared: {error}"), "try again");
    // Without this every small answer over TLS waits for the peer's delayed acknowledgement.
    stream.set_nodelay(true).map_err(local)?;
    let stream = stream.into_std().map_err(local)?;
    let options = LdapConnSettings::new()
        .set_conn_timeout(seconds(settings))
        .set_starttls(settings.start_tls && !host.tls)
        .set_config(tls.clone())
        .set_std_stream(StdStream::Tcp(stream));
    let connected = tokio::time::timeout(seconds(settings), LdapConnAsync::with_settings(options, &settings.url)).await;
    match connected {
        Ok(Ok((connection, ldap))) => {
            tokio::spawn(async move {
                // Every waiting operation is told of the end by its own error.
                if let Err(error) = connection.drive().await {
                    tracing::debug!(%error, "an LDAP connection ended");
                }
            });
            Ok(ldap)
        }
        Ok(Err(LdapError::LdapResult { result })) => Err(ConnectError::system(
            "start_tls_refused",
            format!("{} does not offer StartTLS (code {}): {}", host.name, result.rc, result.text),
            "use ldaps:// if the server has it",
        )),
        Ok(Err(error)) if host.tls || settings.start_tls => Err(crate::tls::fault(&host.name, &error.to_string())),
        Ok(Err(error)) => Err(broken(&settings.url, &error)),
        Err(_) => Err(ConnectError::system(
            "tls",
            format!("{} accepts the connection and then says nothing within {} s", host.name, settings.timeout_seconds),
            "check that the port speaks LDAP, and whether it wants TLS from the start (ldaps://)",
        )),
    }
}

async fn bind(settings: &LdapSettings, secret: Option<&Secret>, ldap: &mut Ldap) -> Result<(), ConnectError> {
    let Some(name) = settings.bind_dn.as_deref().filter(|name| !name.is_empty()) else { return Ok(()) };
    let Some(secret) = secret.filter(|secret| !secret.expose().is_empty()) else {
        // RFC 4513 §5.1.2: a name without a password would be let in as nobody.
        return Err(ConnectError::system(
            "no_password",
            format!("there is no password for {name}"),
            "set one: `eager-tide systems secret NAME`",
        ));
    };
    let result =
        ldap.with_timeout(seconds(settings)).simple_bind(name, secret.expose()).await.map_err(|error| broken(&settings.url, &error))?;
    let text = if result.text.trim().is_empty() { String::new() } else { format!(" ({})", result.text.trim()) };
    match result.rc {
        0 => Ok(()),
        49 => Err(ConnectError::system(
            "bind_refused",
            format!("{name} was refused: the name or the password is wrong{text}"),
            "check both; this server accepts a distinguished name such as cn=eager-tide,ou=services,dc=skerry,dc=example",
        )),
        8 | 13 => Err(ConnectError::system(
            "tls_needed",
            format!("the server accepts no password over an unprotected connection{text}"),
            "use ldaps:// or StartTLS",
        )),
        34 => Err(ConnectError::system(
            "bind_name",
            format!("{name} is no name that this server understands{text}"),
            "give the service account as a distinguished name",
        )),
        code => Err(ConnectError::system(
            "bind_failed",
            format!("{name} was refused with code {code}{text}"),
            "see RFC 4511, appendix A, for the code",
        )),
    }
}

/// A connection that is ready for use.
pub(super) async fn bound(settings: &LdapSettings, secret: Option<&Secret>, tls: &Arc<rustls::ClientConfig>) -> Result<Ldap, ConnectError> {
    let host = host(&settings.url)?;
    let addresses = resolve(&host).await?;
    let stream = open(settings, &host, &addresses).await?;
    let mut ldap = secure(settings, &host, stream, tls).await?;
    bind(settings, secret, &mut ldap).await?;
    Ok(ldap)
}

/// The same, step by step, with what each step found.
pub(super) async fn check(
    settings: &LdapSettings,
    secret: Option<&Secret>,
    tls: &Arc<rustls::ClientConfig>,
    report: &mut CheckReport,
) -> Option<Ldap> {
    let host = note(report, "Address", host(&settings.url), |host| format!("{} port {}", host.name, host.port))?;
    let addresses = note(report, "Name resolves", resolve(&host).await, |found| {
        found.iter().map(|a| a.ip().to_string()).collect::<Vec<_>>().join(", ")
    })?;
    let stream = note(report, "Port answers", open(settings, &host, &addresses).await, |_| format!("{}:{}", host.name, host.port))?;
    let protected = host.tls || settings.start_tls;
    let mut ldap = match secure(settings, &host, stream, tls).await {
        Ok(ldap) => {
            let loopback = addresses.iter().all(|address| address.ip().is_loopback());
            if protected {
                report.passed("TLS verifies", if host.tls { "LDAPS, certificate trusted" } else { "StartTLS, certificate trusted" });
            } else if loopback {
                report.passed("TLS verifies", "not used: the connection stays on this machine");
            } else {
                report.warned("TLS verifies", "not used: password and data cross the network in clear text", "use ldaps:// or StartTLS");
            }
            ldap
        }
        Err(error) => {
            report.failed("TLS verifies", &error);
            return None;
        }
    };
    match bind(settings, secret, &mut ldap).await {
        Ok(()) => report.passed("Bind accepted", settings.bind_dn.clone().unwrap_or_else(|| "without a name".into())),
        Err(error) => {
            report.failed("Bind accepted", &error);
            return None;
        }
    }
    Some(ldap)
}

fn note<T>(report: &mut CheckReport, name: &str, result: Result<T, ConnectError>, said: impl Fn(&T) -> String) -> Option<T> {
    match result {
        Ok(value) => {
            report.passed(name, said(&value));
            Some(value)
        }
        Err(error) => {
            report.failed(name, &error);
            None
        }
    }
}

/// What a broken connection means.
pub(super) fn broken(url: &str, error: &LdapError) -> ConnectError {
    match error {
        LdapError::Timeout { .. } => {
            ConnectError::passing("timeout", format!("{url} did not answer in time"), "it is tried again; raise the time-out if this stays")
        }
        LdapError::FilterParsing => {
            ConnectError::lasting("filter", "the search filter cannot be used", "see RFC 4515 for how a filter is written")
        }
        other => ConnectError::passing(
            "cut",
            format!("the connection with {url} was cut: {other}"),
            "it is tried again; see whether the server runs",
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_read_and_nonsense_is_refused() {
        let of = |url: &str| host(url).map(|h| (h.tls, h.name, h.port)).map_err(|e| e.code);
        assert_eq!(of("ldap://harbour:1389/"), Ok((false, "harbour".into(), 1389)));
        assert_eq!(of("ldaps://harbour"), Ok((true, "harbour".into(), 636)));
        assert_eq!(of("ldap://[::1]:389"), Ok((false, "::1".into(), 389)));
        for bad in ["http://harbour", "harbour", "ldap://", "ldap://a:b", "ldap://a@b"] {
            assert_eq!(of(bad), Err("url"), "{bad}");
        }
    }
}
