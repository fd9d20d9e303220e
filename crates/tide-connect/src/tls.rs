//! TLS, always verified: against the machine's authorities, or one that was given instead.

use crate::ConnectError;
use rustls::{ClientConfig, RootCertStore};
use rustls_pki_types::{CertificateDer, pem::PemObject};
use std::net::IpAddr;
use std::sync::Arc;

/// The configuration for one system.
pub(crate) fn client(ca_pem: Option<&str>) -> Result<Arc<ClientConfig>, ConnectError> {
    let mut roots = RootCertStore::empty();
    match ca_pem {
        Some(pem) => {
            let wrong = |what: String| {
                ConnectError::lasting(
                    "ca_unreadable",
                    format!("the certificate authority cannot be read: {what}"),
                    "give a PEM file that begins with -----BEGIN CERTIFICATE-----",
                )
            };
            let mut any = false;
            for certificate in CertificateDer::pem_slice_iter(pem.as_bytes()) {
                let certificate = certificate.map_err(|error| wrong(error.to_string()))?;
                roots.add(certificate).map_err(|error| wrong(error.to_string()))?;
                any = true;
            }
            if !any {
                return Err(wrong("it holds no certificate".into()));
            }
        }
        None => {
            // What cannot be read of the machine's store is not trusted, which is the safe side.
            let _ = roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        }
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|error| ConnectError::lasting("tls", error.to_string(), "report this"))?
        .with_root_certificates(roots)
        .with_no_client_auth();
    Ok(Arc::new(config))
}

/// What a failed handshake means, in words.
pub(crate) fn fault(host: &str, text: &str) -> ConnectError {
    let lower = text.to_lowercase();
    if lower.contains("unknownissuer") || lower.contains("unknown issuer") || lower.contains("badsignature") {
        ConnectError::system(
            "tls_untrusted",
            format!("the certificate of {host} is not signed by an authority that is trusted here"),
            "give the authority's certificate as PEM (`--ca FILE`)",
        )
    } else if lower.contains("notvalidforname") || lower.contains("not valid for name") {
        ConnectError::system(
            "tls_name",
            format!("the certificate is made out for another name than {host}"),
            "connect by a name that stands in the certificate",
        )
    } else if lower.contains("expired") || lower.contains("notvalidyet") {
        ConnectError::system(
            "tls_expired",
            format!("the certificate of {host} is not valid today: {text}"),
            "renew the certificate, and check the clocks of both machines",
        )
    } else {
        ConnectError::system(
            "tls",
            format!("no TLS connection with {host}: {text}"),
            "check that this port speaks TLS, and in which versions",
        )
    }
}

/// Refuses addresses at which no connected system lives and secrets could be lured away.
pub(crate) fn refuse_address(address: IpAddr) -> Result<(), ConnectError> {
    let local = match address {
        IpAddr::V4(v4) => v4.is_link_local() || v4.is_broadcast() || v4.is_multicast(),
        IpAddr::V6(v6) => {
            let first = v6.segments()[0];
            first & 0xffc0 == 0xfe80 || v6.is_multicast() || v6.to_string() == "fd00:ec2::254"
        }
    };
    if local {
        return Err(ConnectError::lasting(
            "address_refused",
            format!("{address} is a link-local or metadata address, and is never called"),
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
        for bad in ["169.254.169.254", "fe80::1", "fd00:ec2::254", "224.0.0.1"] {
            assert!(refuse_address(bad.parse().expect("valid")).is_err(), "{bad}");
        }
        for good in ["127.0.0.1", "10.0.0.5", "::1"] {
            assert!(refuse_address(good.parse().expect("valid")).is_ok(), "{good}");
        }
    }

    #[test]
    fn an_authority_that_is_none_is_said_to_be_none() {
        assert_eq!(client(Some("hello")).expect_err("refused").code, "ca_unreadable");
    }
}
