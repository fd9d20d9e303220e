//! `tide-scim` holds SCIM 2.0's own grammar: filters and paths (RFC 7644 §3.4.2.2, §3.5.2), PATCH,
//! schema descriptions (RFC 7643 §7) and the flat names that mappings use.
//!
//! It also says how a provider takes resources in and gives them out ([`resource`], [`schemas`]).
//! It is *not* a client or a server: nothing here opens a connection.

pub mod filter;
pub mod flat;
pub mod patch;
pub mod resource;
pub mod schemas;

pub use filter::{ScimFilter, ScimFilterError};
pub use flat::{FlatAttribute, FlatSchema};

/// The core schema of users (RFC 7643 §4.1).
pub const USER: &str = "urn:ietf:params:scim:schemas:core:2.0:User";
/// The core schema of groups (RFC 7643 §4.2).
pub const GROUP: &str = "urn:ietf:params:scim:schemas:core:2.0:Group";
/// The enterprise extension of users (RFC 7643 §4.3).
pub const ENTERPRISE: &str = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User";
/// The message of a PATCH (RFC 7644 §3.5.2).
pub const PATCH_OP: &str = "urn:ietf:params:scim:api:messages:2.0:PatchOp";
/// The message of a bulk request (RFC 7644 §3.7).
pub const BULK: &str = "urn:ietf:params:scim:api:messages:2.0:BulkRequest";
/// The message of a bulk answer (RFC 7644 §3.7).
pub const BULK_ANSWER: &str = "urn:ietf:params:scim:api:messages:2.0:BulkResponse";
/// The message of a search by POST (RFC 7644 §3.4.3).
pub const SEARCH: &str = "urn:ietf:params:scim:api:messages:2.0:SearchRequest";
/// The message of a list (RFC 7644 §3.4.2).
pub const LIST: &str = "urn:ietf:params:scim:api:messages:2.0:ListResponse";
/// The message of an error (RFC 7644 §3.12).
pub const ERROR: &str = "urn:ietf:params:scim:api:messages:2.0:Error";

/// An error body (RFC 7644 §3.12).
pub fn error_body(status: u16, scim_type: Option<&str>, detail: &str) -> serde_json::Value {
    let mut body =
        serde_json::json!({"schemas": [ERROR], "status": status.to_string(), "detail": detail});
    if let Some(kind) = scim_type {
        body["scimType"] = kind.into();
    }
    body
}
