//! `tide-standins` holds the simulated systems of the demo and the tests: a SCIM service, a small
//! real LDAP server, a starter for OpenLDAP's slapd and one for Samba's domain controller, and the
//! made-up people of Skerry Line.
//!
//! All of them listen on loopback only. Nothing of the service depends on this crate but `demo`
//! and the tests.

pub mod certs;
pub mod directory;
mod eventually;
pub mod samba;
pub mod scim_service;
pub mod slapd;
pub mod world;

pub use eventually::eventually;

/// A port that was free a moment ago, for servers that cannot choose one themselves.
pub fn free_port() -> std::io::Result<u16> {
    Ok(std::net::TcpListener::bind("127.0.0.1:0")?
        .local_addr()?
        .port())
}
