//! The schemas of the standard (RFC 7643 §4, §8.7), which our provider publishes and which are
//! assumed for a service that publishes none.

use crate::{ENTERPRISE, GROUP, USER};
use serde_json::{Value, json};

/// The schema of schemas (RFC 7643 §7).
pub const SCHEMA: &str = "urn:ietf:params:scim:schemas:core:2.0:Schema";
/// The schema of resource types (RFC 7643 §6).
pub const RESOURCE_TYPE: &str = "urn:ietf:params:scim:schemas:core:2.0:ResourceType";
/// The schema of a service's configuration (RFC 7643 §5).
pub const CONFIG: &str = "urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig";

/// One attribute, with the defaults of RFC 7643 §2.2 and what differs from them.
fn attribute(name: &str, kind: &str, description: &str, more: Value) -> Value {
    let mut all = json!({
        "name": name, "type": kind, "multiValued": false, "description": description, "required": false,
        "mutability": "readWrite", "returned": "default",
    });
    match kind {
        "string" => {
            all["caseExact"] = json!(false);
            all["uniqueness"] = json!("none");
        }
        "reference" | "binary" => all["caseExact"] = json!(true),
        _ => {}
    }
    for (key, value) in more.as_object().into_iter().flatten() {
        all[key] = value.clone();
    }
    all
}

fn text(name: &str, description: &str) -> Value {
    attribute(name, "string", description, json!({}))
}

/// A list of typed values (RFC 7643 §2.4).
fn typed(name: &str, description: &str, value: Value, kinds: &[&str]) -> Value {
    let subs = json!([
        value,
        text("display", "A human-readable name"),
        attribute(
            "type",
            "string",
            "What the value is for",
            json!({"canonicalValues": kinds})
        ),
        attribute(
            "primary",
            "boolean",
            "Is it the preferred one? At most one is",
            json!({})
        ),
    ]);
    attribute(
        name,
        "complex",
        description,
        json!({"multiValued": true, "subAttributes": subs}),
    )
}

/// The core schema of users (RFC 7643 §4.1).
pub fn user() -> Value {
    let value = |what: &str| text("value", what);
    let uri = |what: &str| {
        attribute(
            "value",
            "reference",
            what,
            json!({"referenceTypes": ["external"]}),
        )
    };
    let name = json!([
        text("formatted", "The full name"),
        text("familyName", "The family name"),
        text("givenName", "The given name"),
        text("middleName", "The middle names"),
        text("honorificPrefix", "A title before the name"),
        text("honorificSuffix", "A title after the name"),
    ]);
    let address = address_attributes();
    let groups = group_attributes();
    let phones = ["work", "home", "mobile", "fax", "pager", "other"];
    json!({
        "schemas": [SCHEMA], "id": USER, "name": "User", "description": "User Account",
        "attributes": [
            attribute("userName", "string", "What the user signs in with", json!({"required": true, "uniqueness": "server"})),
            attribute("name", "complex", "The parts of the name", json!({"subAttributes": name})),
            text("displayName", "The name to show"),
            text("nickName", "A casual name"),
            attribute("profileUrl", "reference", "A page about the user", json!({"referenceTypes": ["external"]})),
            text("title", "The job title"),
            text("userType", "How the user belongs to the organisation"),
            text("preferredLanguage", "Languages, as in Accept-Language"),
            text("locale", "For formats, as RFC 5646 names it"),
            text("timezone", "As the IANA time zone database names it"),
            attribute("active", "boolean", "May the account be used?", json!({})),
            attribute("password", "string", "A password to set; never returned", json!({"mutability": "writeOnly", "returned": "never"})),
            typed("emails", "E-mail addresses", value("An address"), &["work", "home", "other"]),
            typed("phoneNumbers", "Telephone numbers", value("A number"), &phones),
            typed("ims", "Instant messaging", value("An address"), &["xmpp", "sip", "other"]),
            typed("photos", "Pictures", uri("Where the picture is"), &["photo", "thumbnail"]),
            attribute("addresses", "complex", "Postal addresses", json!({"multiValued": true, "subAttributes": address})),
            attribute("groups", "complex", "Groups that the user belongs to", json!({"multiValued": true, "mutability": "readOnly", "subAttributes": groups})),
            typed("entitlements", "Entitlements", value("An entitlement"), &[]),
            typed("roles", "Roles", value("A role"), &[]),
            typed("x509Certificates", "Certificates", attribute("value", "binary", "A DER certificate, in base64", json!({})), &[]),
        ],
        "meta": {"resourceType": "Schema", "location": format!("/Schemas/{USER}")},
    })
}

/// The sub-attributes of a postal address.
fn address_attributes() -> Value {
    json!([
        text("formatted", "The whole address"),
        text("streetAddress", "Street and number"),
        text("locality", "Town"),
        text("region", "State or region"),
        text("postalCode", "Postal code"),
        text("country", "Country, as ISO 3166-1 alpha-2"),
        attribute(
            "type",
            "string",
            "What the address is for",
            json!({"canonicalValues": ["work", "home", "other"]})
        ),
        attribute(
            "primary",
            "boolean",
            "Is it the preferred one? At most one is",
            json!({})
        ),
    ])
}

/// The sub-attributes of a group of the user.
fn group_attributes() -> Value {
    json!([
        attribute(
            "value",
            "string",
            "The group's id",
            json!({"mutability": "readOnly"})
        ),
        attribute(
            "$ref",
            "reference",
            "The group's address",
            json!({"mutability": "readOnly", "referenceTypes": ["User", "Group"]})
        ),
        attribute(
            "display",
            "string",
            "The group's name",
            json!({"mutability": "readOnly"})
        ),
        attribute(
            "type",
            "string",
            "How the user belongs to it",
            json!({"mutability": "readOnly", "canonicalValues": ["direct", "indirect"]})
        ),
    ])
}

/// The core schema of groups (RFC 7643 §4.2).
pub fn group() -> Value {
    let members = json!([
        attribute(
            "value",
            "string",
            "The member's id",
            json!({"mutability": "immutable", "caseExact": true})
        ),
        attribute(
            "$ref",
            "reference",
            "The member's address",
            json!({"mutability": "immutable", "referenceTypes": ["User", "Group"]})
        ),
        attribute(
            "type",
            "string",
            "What the member is",
            json!({"mutability": "immutable", "canonicalValues": ["User", "Group"]})
        ),
        attribute(
            "display",
            "string",
            "The member's name",
            json!({"mutability": "readOnly"})
        ),
    ]);
    json!({
        "schemas": [SCHEMA], "id": GROUP, "name": "Group", "description": "Group",
        "attributes": [
            attribute("displayName", "string", "The group's name", json!({"required": true})),
            attribute("members", "complex", "Who belongs to it", json!({"multiValued": true, "subAttributes": members})),
        ],
        "meta": {"resourceType": "Schema", "location": format!("/Schemas/{GROUP}")},
    })
}

/// The enterprise extension of users (RFC 7643 §4.3).
pub fn enterprise() -> Value {
    let manager = json!([
        text("value", "The manager's id"),
        attribute(
            "$ref",
            "reference",
            "The manager's address",
            json!({"referenceTypes": ["User"]})
        ),
        attribute(
            "displayName",
            "string",
            "The manager's name",
            json!({"mutability": "readOnly"})
        ),
    ]);
    json!({
        "schemas": [SCHEMA], "id": ENTERPRISE, "name": "EnterpriseUser", "description": "Enterprise User",
        "attributes": [
            text("employeeNumber", "The number that the organisation gave"),
            text("costCenter", "The cost centre"),
            text("organization", "The organisation"),
            text("division", "The division"),
            text("department", "The department"),
            attribute("manager", "complex", "The manager", json!({"subAttributes": manager})),
        ],
        "meta": {"resourceType": "Schema", "location": format!("/Schemas/{ENTERPRISE}")},
    })
}

/// All three.
pub fn all() -> Vec<Value> {
    vec![user(), group(), enterprise()]
}

/// The definition of an attribute in a schema, whatever the case of its name.
pub fn attribute_of<'s>(schema: &'s Value, name: &str) -> Option<&'s Value> {
    schema["attributes"].as_array()?.iter().find(|a| {
        a["name"]
            .as_str()
            .is_some_and(|n| n.eq_ignore_ascii_case(name))
    })
}

/// The definition of a part of an attribute, whatever the case of its name.
pub fn part_of<'s>(attribute: &'s Value, name: &str) -> Option<&'s Value> {
    attribute["subAttributes"].as_array()?.iter().find(|a| {
        a["name"]
            .as_str()
            .is_some_and(|n| n.eq_ignore_ascii_case(name))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_attribute_says_all_that_the_standard_asks_of_it() {
        fn walk(attributes: &Value) {
            for attribute in attributes.as_array().expect("a list") {
                for key in [
                    "name",
                    "type",
                    "multiValued",
                    "description",
                    "required",
                    "mutability",
                    "returned",
                ] {
                    assert!(
                        !attribute[key].is_null(),
                        "{attribute} lacks {key} (RFC 7643 §7)"
                    );
                }
                if attribute["type"] == "complex" {
                    walk(&attribute["subAttributes"]);
                }
            }
        }
        for schema in all() {
            walk(&schema["attributes"]);
        }
        let user = user();
        let emails = attribute_of(&user, "EMAILS").expect("there");
        assert_eq!(part_of(emails, "Value").expect("there")["type"], "string");
    }
}
