//! TLS, always verified: by the authorities of the machine, by a given one, or by a pinned
//! certificate.

use crate::{ConnectError, Secret};
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::CryptoProvider;
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};
use rustls_pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime, pem::PemObject};
use sha2::{Digest, Sha256};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::sync::Arc;

/// The trusted certificates, and our own.
#[derive(Default)]
pub(crate) struct Trust<'a> {
    /// The certificate authority, as PEM; the machine's if none is given.
    pub ca_pem: Option<&'a str>,
    /// The SHA-256 of the one certificate that is trusted.
    pub pin: Option<&'a str>,
    /// Our own certificate and its key, as PEM.
    pub own: Option<(&'a str, &'a Secret)>,
}

/// The configuration for one system.
pub(crate) fn client_config(trust: &Trust<'_>) -> Result<Arc<ClientConfig>, ConnectError> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider.clone())
        .with_safe_default_protocol_versions()
        .map_err(|error| ConnectError::permanent("tls", error.to_string(), "report this"))?;
    let builder = match trust.pin {
        Some(pin) => builder
            .dangerous()
            .with_custom_certificate_verifier(Arc::new(Pinned {
                digest: certificate_digest(pin)?,
                provider,
            })),
        None => builder.with_root_certificates(root_certificates(trust.ca_pem)?),
    };
    let config = match trust.own {
        None => builder.with_no_client_auth(),
        Some((certificate, key)) => {
            let wrong = |what: String| {
                ConnectError::permanent(
                    "client_certificate",
                    format!("the client certificate cannot be used: {what}"),
                    "give the certificate as PEM in the settings, and its unencrypted key as PEM as the secret",
                )
            };
            let chain: Vec<CertificateDer<'static>> =
                CertificateDer::pem_slice_iter(certificate.as_bytes())
                    .collect::<Result<_, _>>()
                    .map_err(|e| wrong(e.to_string()))?;
            let key = PrivateKeyDer::from_pem_slice(key.expose().as_bytes())
                .map_err(|_| wrong("the key is not PEM".into()))?;
            builder
                .with_client_auth_cert(chain, key)
                .map_err(|e| wrong(e.to_string()))?
        }
    };
    Ok(Arc::new(config))
}

fn root_certificates(ca_pem: Option<&str>) -> Result<RootCertStore, ConnectError> {
    let mut roots = RootCertStore::empty();
    let Some(pem) = ca_pem else {
        // What cannot be read of the machine's store is not trusted, which is the safe side.
        let _ = roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        return Ok(roots);
    };
    let wrong = |what: String| {
        ConnectError::permanent(
            "ca_unreadable",
            format!("the certificate authority cannot be read: {what}"),
            "give a PEM file that begins with -----BEGIN CERTIFICATE-----",
        )
    };
    let mut any = false;
    for certificate in CertificateDer::pem_slice_iter(pem.as_bytes()) {
        let certificate = certificate.map_err(|error| wrong(error.to_string()))?;
        roots
            .add(certificate)
            .map_err(|error| wrong(error.to_string()))?;
        any = true;
    }
    if any {
        Ok(roots)
    } else {
        Err(wrong("it holds no certificate".into()))
    }
}

fn certificate_digest(pin: &str) -> Result<[u8; 32], ConnectError> {
    let digits: String = pin.chars().filter(|c| !matches!(c, ':' | ' ')).collect();
    let mut digest = [0; 32];
    hex::decode_to_slice(&digits, &mut digest)
        .map(|()| digest)
        .ok()
        .ok_or_else(|| {
            ConnectError::permanent(
                "pin_unreadable",
                "the pinned certificate is not a SHA-256 in hexadecimal",
                "`openssl x509 -noout -fingerprint -sha256 -in FILE` prints it",
            )
        })
}

/// Trusts one pinned certificate, whatever its content. The server must still prove that it has
/// the private key.
#[derive(Debug)]
struct Pinned {
    digest: [u8; 32],
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for Pinned {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        _intermediates: &[CertificateDer<'_>],
        _server_name: &ServerName<'_>,
        _ocsp_response: &[u8],
        _now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        if Sha256::digest(end_entity.as_ref()).as_slice() == self.digest {
            Ok(ServerCertVerified::assertion())
        } else {
            Err(rustls::Error::InvalidCertificate(
                rustls::CertificateError::ApplicationVerificationFailure,
            ))
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        rustls::crypto::verify_tls12_signature(
            message,
            certificate,
            signature,
            &self.provider.signature_verification_algorithms,
        )
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        rustls::crypto::verify_tls13_signature(
            message,
            certificate,
            signature,
            &self.provider.signature_verification_algorithms,
        )
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider
            .signature_verification_algorithms
            .supported_schemes()
    }
}

/// The error of a failed TLS handshake.
pub(crate) fn handshake_error(host: &str, text: &str) -> ConnectError {
    let lower = text.to_lowercase();
    let says = |words: &[&str]| words.iter().any(|word| lower.contains(word));
    fault_of_certificate(host, &says).unwrap_or_else(|| fault_of_handshake(host, text, &says))
}

/// The problem with the certificate of the server, by the error of the TLS library.
fn fault_of_certificate(host: &str, says: &dyn Fn(&[&str]) -> bool) -> Option<ConnectError> {
    Some(
        if says(&[
            "unknownissuer",
            "unknown issuer",
            "badsignature",
            "causedasendentity",
        ]) {
            ConnectError::system_down(
                "tls_untrusted",
                format!("the certificate of {host} is not signed by a trusted authority"),
                "give the authority's certificate as PEM (`--ca FILE`), or pin this one certificate",
            )
        } else if says(&["applicationverificationfailure"]) {
            ConnectError::system_down(
                "tls_pin",
                format!("{host} presents another certificate than the pinned one"),
                "if it was renewed, pin the new one; otherwise the connection may be intercepted",
            )
        } else if says(&["notvalidforname", "not valid for name"]) {
            ConnectError::system_down(
                "tls_name",
                format!("the certificate is not valid for the name {host}"),
                "connect with a name in the certificate",
            )
        } else if says(&["notvalidyet", "not valid yet"]) {
            ConnectError::system_down(
                "tls_not_yet",
                format!("the certificate of {host} is not valid yet"),
                "check the clocks of both machines, and the start of validity",
            )
        } else if says(&["expired"]) {
            ConnectError::system_down(
                "tls_expired",
                format!("the certificate of {host} has expired"),
                "renew the certificate on the server",
            )
        } else {
            return None;
        },
    )
}

/// Why there is no connection, other than the server's certificate.
fn fault_of_handshake(host: &str, text: &str, says: &dyn Fn(&[&str]) -> bool) -> ConnectError {
    if says(&["handshake eof"]) {
        ConnectError::system_down(
            "tls_version",
            format!(
                "{host} aborts the TLS handshake: no common TLS version (1.2, 1.3) or cipher, or no TLS on this port"
            ),
            "enable TLS 1.2 or newer on the server, and check the port",
        )
    } else if says(&[
        "protocolversion",
        "handshakefailure",
        "peerincompatible",
        "incompatible",
    ]) {
        ConnectError::system_down(
            "tls_version",
            format!(
                "{host} and this service have no common TLS version: 1.2 and 1.3 are supported here"
            ),
            "enable TLS 1.2 or newer on the server",
        )
    } else if says(&[
        "certificaterequired",
        "certificate required",
        "badcertificate",
    ]) {
        ConnectError::system_down(
            "tls_client_certificate",
            format!("{host} requires a client certificate and does not accept ours"),
            "give a client certificate that is signed by the server's authority",
        )
    } else if says(&["invalidcontenttype", "corrupt message", "invalidmessage"]) {
        ConnectError::system_down(
            "not_tls",
            format!("{host} answers on this port, but not with TLS"),
            "use the port for TLS (636 for LDAPS, 443 for HTTPS), or StartTLS",
        )
    } else {
        ConnectError::system_down(
            "tls",
            format!("no TLS connection with {host}: {text}"),
            "check that this port speaks TLS, and in which versions",
        )
    }
}

/// Addresses at which hosting providers tell machines about themselves, secrets among it, beside
/// the link-local ones.
const METADATA: [Ipv4Addr; 3] = [
    Ipv4Addr::new(100, 100, 100, 200),
    Ipv4Addr::new(168, 63, 129, 16),
    Ipv4Addr::new(192, 0, 0, 192),
];
const METADATA_V6: [Ipv6Addr; 2] = [
    Ipv6Addr::new(0xfd00, 0xec2, 0, 0, 0, 0, 0, 0x254),
    Ipv6Addr::new(0xfd20, 0xce, 0, 0, 0, 0, 0, 0x254),
];

/// Refuses addresses at which no connected system lives and secrets could be lured away.
pub(crate) fn refuse_address(address: IpAddr) -> Result<(), ConnectError> {
    let refused_v4 = |v4: Ipv4Addr| {
        v4.is_link_local()
            || v4.is_broadcast()
            || v4.is_multicast()
            || v4.is_unspecified()
            || METADATA.contains(&v4)
    };
    let local = match address.to_canonical() {
        IpAddr::V4(v4) => refused_v4(v4),
        IpAddr::V6(v6) => {
            let parts = v6.segments();
            let v4 = |high: u16, low: u16| Ipv4Addr::from((u32::from(high) << 16) | u32::from(low));
            // An IPv4 address can stand in one of IPv6: by NAT64 (RFC 6052 section 2.1) and by 6to4
            // (RFC 3056 section 2).
            let inner = match parts {
                [0x64, 0xff9b, 0, 0, 0, 0, high, low] | [0x2002, high, low, ..] => {
                    Some(v4(high, low))
                }
                _ => None,
            };
            parts[0] & 0xffc0 == 0xfe80
                || v6.is_multicast()
                || v6.is_unspecified()
                || METADATA_V6.contains(&v6)
                || inner.is_some_and(refused_v4)
        }
    };
    if local {
        return Err(ConnectError::permanent(
            "address_refused",
            format!("{address} is a link-local or metadata address, which is never called"),
            "give the address of the system itself",
        ));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn metadata_addresses_are_refused() {
        for bad in [
            "169.254.169.254",
            "fe80::1",
            "fd00:ec2::254",
            "fd20:ce::254",
            "224.0.0.1",
            "::ffff:169.254.169.254",
            "0.0.0.0",
            "100.100.100.200",
            "168.63.129.16",
            "192.0.0.192",
            "64:ff9b::169.254.169.254",
            "2002:a9fe:a9fe::1",
        ] {
            assert!(
                refuse_address(bad.parse().expect("valid")).is_err(),
                "{bad}"
            );
        }
        for good in [
            "127.0.0.1",
            "10.0.0.5",
            "::1",
            "64:ff9b::10.0.0.5",
            "2002:a00:5::1",
        ] {
            assert!(
                refuse_address(good.parse().expect("valid")).is_ok(),
                "{good}"
            );
        }
    }

    #[test]
    fn invalid_authorities_and_pins_are_refused() {
        assert_eq!(
            client_config(&Trust {
                ca_pem: Some("hello"),
                ..Trust::default()
            })
            .expect_err("refused")
            .code,
            "ca_unreadable"
        );
        assert_eq!(
            client_config(&Trust {
                pin: Some("abc"),
                ..Trust::default()
            })
            .expect_err("refused")
            .code,
            "pin_unreadable"
        );
    }
}
