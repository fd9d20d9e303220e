//! `tide-ldap` holds LDAP's own grammar: distinguished names (RFC 4514), filters (RFC 4515), LDIF
//! (RFC 2849), generalized time and schema descriptions (RFC 4512, 4517).
//!
//! It is *not* a client: nothing here opens a connection.

pub mod dn;
pub mod filter;
pub mod ldif;
pub mod schema;
pub mod syntax;
pub mod wire;

pub use dn::{Dn, DnError};
pub use filter::LdapFilter;
