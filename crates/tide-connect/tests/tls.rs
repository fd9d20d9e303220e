//! TLS is always verified: who is not trusted, named otherwise or out of date is told apart.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use std::sync::Arc;
use tide_connect::{
    CheckReport, ConnectionState, Connector, LdapConnector, LdapSettings, ScimConnector,
    ScimSettings, Secret,
};
use tide_core::states::StepState;
use tide_standins::certs;
use tide_standins::directory::Directory;
use tide_standins::slapd::Slapd;
use tide_standins::world::{self, BASE};
use tokio::net::TcpListener;

/// A server that speaks TLS with a certificate, and answers nothing.
struct Made {
    port: u16,
    ca_pem: String,
}

/// Accepts TLS connections with a certificate for these names.
async fn tls_server(names: &[&str]) -> Made {
    let made = certs::make(names).expect("made");
    let pem = |text: &str| text.as_bytes().to_vec();
    let certificates: Vec<_> =
        rustls_pki_types::pem::PemObject::pem_slice_iter(&pem(&made.server_pem))
            .map(|c| c.expect("a certificate"))
            .collect();
    let key = rustls_pki_types::pem::PemObject::from_pem_slice(&pem(&made.server_key_pem))
        .expect("a key");
    let config = rustls::ServerConfig::builder_with_provider(Arc::new(
        rustls::crypto::ring::default_provider(),
    ))
    .with_safe_default_protocol_versions()
    .expect("versions")
    .with_no_client_auth()
    .with_single_cert(certificates, key)
    .expect("a certificate with its key");
    let config = Arc::new(config);
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("listens");
    let port = listener.local_addr().expect("bound").port();
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let config = config.clone();
            // The handshake is all that matters here: it is driven by hand, and the line then
            // dropped.
            tokio::task::spawn_blocking(move || {
                let mut stream = stream.into_std().expect("a socket");
                stream.set_nonblocking(false).expect("blocking");
                let mut connection = rustls::ServerConnection::new(config).expect("a connection");
                let _ = connection.complete_io(&mut stream);
            });
        }
    });
    Made {
        port,
        ca_pem: made.ca_pem,
    }
}

fn ldap(url: String, ca_pem: Option<String>, start_tls: bool) -> LdapConnector {
    let settings = LdapSettings {
        start_tls,
        ca_pem,
        page_size: 100,
        timeout_seconds: 8,
        ..LdapSettings::new(url, BASE)
    };
    LdapConnector::new(settings, None, Arc::default()).expect("sound")
}

fn code(report: &CheckReport) -> String {
    let step = report
        .steps
        .iter()
        .find(|s| s.state == StepState::Failed)
        .unwrap_or_else(|| panic!("nothing failed: {report:#?}"));
    assert!(
        step.remedy.as_ref().is_some_and(|r| !r.is_empty()),
        "{step:?}"
    );
    step.code.clone().unwrap_or_default()
}

#[tokio::test]
async fn untrusted_authorities_and_wrong_names_get_different_errors() {
    let right = tls_server(&["127.0.0.1"]).await;
    let other = tls_server(&["elsewhere.skerry.example"]).await;
    let at = |port: u16| format!("ldaps://127.0.0.1:{port}");
    assert_eq!(
        code(&ldap(at(right.port), None, false).run_check().await),
        "tls_untrusted"
    );
    assert_eq!(
        code(
            &ldap(at(right.port), Some(other.ca_pem.clone()), false)
                .run_check()
                .await
        ),
        "tls_untrusted"
    );
    assert_eq!(
        code(
            &ldap(at(other.port), Some(other.ca_pem.clone()), false)
                .run_check()
                .await
        ),
        "tls_name"
    );
    let trusted = ldap(at(right.port), Some(right.ca_pem.clone()), false)
        .run_check()
        .await;
    assert!(
        trusted
            .steps
            .iter()
            .any(|s| s.name == "TLS verifies" && s.state == StepState::Passed),
        "{trusted:#?}"
    );

    let scim = |port: u16, ca: &Made| {
        let settings = ScimSettings {
            ca_pem: Some(ca.ca_pem.clone()),
            timeout_seconds: 8,
            ..ScimSettings::new(format!("https://127.0.0.1:{port}/scim/v2"))
        };
        ScimConnector::new(
            settings,
            Some(Secret::new("t")),
            Arc::new(ConnectionState::default()),
        )
        .expect("sound")
    };
    assert_eq!(
        code(&scim(right.port, &other).run_check().await),
        "tls_untrusted"
    );
    assert_eq!(
        code(&scim(other.port, &other).run_check().await),
        "tls_name"
    );
}

#[tokio::test]
async fn start_tls_that_is_not_offered_and_a_port_that_is_silent_say_so() {
    let directory = Directory::start(&world::directory(&[], "x"), "x")
        .await
        .expect("starts");
    let report = ldap(directory.url.clone(), None, true).run_check().await;
    assert!(
        ["start_tls_refused", "tls"].contains(&code(&report).as_str()),
        "{report:#?}"
    );
    // LDAPS spoken to a plain port.
    let report = ldap(directory.url.replace("ldap://", "ldaps://"), None, false)
        .run_check()
        .await;
    assert!(
        ["tls", "not_tls", "tls_version"].contains(&code(&report).as_str()),
        "{report:#?}"
    );
    // A port that accepts and says nothing.
    let silent = TcpListener::bind("127.0.0.1:0").await.expect("listens");
    let report = ldap(
        format!("ldaps://{}", silent.local_addr().expect("bound")),
        None,
        false,
    )
    .run_check()
    .await;
    assert_eq!(code(&report), "silent");
}

#[tokio::test]
async fn slapd_that_stops_and_returns_is_found_again() {
    let people = world::people(world::SEED, 10);
    let mut slapd = Slapd::start(&world::directory(&people, "secret")).expect("starts");
    let settings = LdapSettings {
        start_tls: true,
        bind_dn: Some(format!("cn=eager-tide,ou=services,{BASE}")),
        ca_pem: Some(slapd.certificates.ca_pem.clone()),
        timeout_seconds: 8,
        ..LdapSettings::new(&slapd.url, BASE)
    };
    let connector =
        LdapConnector::new(settings, Some(Secret::new("secret")), Arc::default()).expect("sound");
    let probes = [("uid".to_owned(), tide_core::Value::text(&people[0].uid))];
    let find = || connector.find(tide_core::ObjectType::Person, &probes);
    assert_eq!(find().await.expect("found").len(), 1);
    slapd.stop();
    assert!(find().await.is_err());
    slapd.restart().expect("starts again");
    // The first call after the break may find the old line dead; the next dials anew.
    let again = match find().await {
        Ok(found) => found,
        Err(_) => find().await.expect("dialled again"),
    };
    assert_eq!(again.len(), 1);
}
