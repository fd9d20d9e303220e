//! Certificates for tests and the demo: a private authority and a server certificate by it.

use rcgen::{BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair, KeyUsagePurpose};

/// A private authority with one server certificate.
#[derive(Debug, Clone)]
pub struct Certificates {
    /// The authority's certificate, as PEM.
    pub ca_pem: String,
    /// The server's certificate, as PEM.
    pub server_pem: String,
    /// The server's key, as PEM.
    pub server_key_pem: String,
}

/// Creates a certificate authority and a certificate for these names and addresses.
pub fn make(names: &[&str]) -> Result<Certificates, rcgen::Error> {
    valid(names, None)
}

/// The same, valid between two years only: one that has expired, or is not valid yet.
pub fn valid(names: &[&str], years: Option<(i32, i32)>) -> Result<Certificates, rcgen::Error> {
    let mut ca = CertificateParams::new(Vec::<String>::new())?;
    ca.distinguished_name
        .push(DnType::CommonName, "Skerry Line private authority");
    ca.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    ca.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    let ca_key = KeyPair::generate()?;
    let ca_pem = ca.self_signed(&ca_key)?.pem();
    let issuer = Issuer::new(ca, ca_key);
    let mut server =
        CertificateParams::new(names.iter().map(|n| (*n).to_owned()).collect::<Vec<_>>())?;
    server.distinguished_name.push(
        DnType::CommonName,
        names.first().copied().unwrap_or("localhost"),
    );
    if let Some((from, to)) = years {
        server.not_before = rcgen::date_time_ymd(from, 1, 1);
        server.not_after = rcgen::date_time_ymd(to, 1, 1);
    }
    let server_key = KeyPair::generate()?;
    let server_pem = server.signed_by(&server_key, &issuer)?.pem();
    Ok(Certificates {
        ca_pem,
        server_pem,
        server_key_pem: server_key.serialize_pem(),
    })
}
