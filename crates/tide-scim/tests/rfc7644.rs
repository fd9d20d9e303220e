//! The grammar held against RFC 7644 clause by clause: filters of §3.4.2.2, PATCH of §3.5.2.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use serde_json::{Value, json};
use tide_scim::{ENTERPRISE, PATCH_OP, ScimFilter, USER, error_body, patch};

fn user() -> Value {
    json!({
        "schemas": [USER, ENTERPRISE],
        "id": "2819c223-7f76-453a-919d-413861904646",
        "externalId": "bjensen",
        "meta": {"resourceType": "User", "lastModified": "2026-05-13T04:42:34Z", "version": "W/\"a330bc54f0671c9\""},
        "name": {"formatted": "Ms. Barbara J Jensen III", "familyName": "Jensen", "givenName": "Barbara"},
        "userName": "bjensen",
        "userType": "Employee",
        "title": "Purser",
        "active": true,
        "phoneNumbers": [{"value": "555-555-8377", "type": "work"}],
        "emails": [
            {"value": "bjensen@skerry.example", "type": "work", "primary": true},
            {"value": "babs@jensen.example", "type": "home"}
        ],
        "addresses": [{"type": "work", "streetAddress": "1 Quay", "locality": "Northhaven"}],
        (ENTERPRISE): {"employeeNumber": "701984", "department": "Ticketing"}
    })
}

/// The filters of the examples in §3.4.2.2, as they apply to the user above.
#[test]
fn the_filters_of_the_standard_hold_as_it_says() {
    let cases = [
        ("userName eq \"bjensen\"", true),
        ("name.familyName co \"O'Malley\"", false),
        ("userName sw \"J\"", false),
        (
            "urn:ietf:params:scim:schemas:core:2.0:User:userName sw \"b\"",
            true,
        ),
        ("title pr", true),
        ("meta.lastModified gt \"2011-05-13T04:42:34Z\"", true),
        ("meta.lastModified ge \"2026-05-13T04:42:34Z\"", true),
        ("meta.lastModified lt \"2011-05-13T04:42:34Z\"", false),
        ("meta.lastModified le \"2011-05-13T04:42:34Z\"", false),
        ("title pr and userType eq \"Employee\"", true),
        ("title pr or userType eq \"Intern\"", true),
        (
            "schemas eq \"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User\"",
            true,
        ),
        (
            "userType eq \"Employee\" and (emails co \"example.com\" or emails.value co \"example.org\")",
            false,
        ),
        (
            "userType ne \"Employee\" and not (emails co \"example.com\" or emails.value co \"example.org\")",
            false,
        ),
        (
            "userType eq \"Employee\" and (emails.type eq \"work\")",
            true,
        ),
        (
            "userType eq \"Employee\" and emails[type eq \"work\" and value co \"@skerry.example\"]",
            true,
        ),
        (
            "emails[type eq \"work\" and value co \"@example.com\"] or ims[type eq \"xmpp\" and value co \"@foo.com\"]",
            false,
        ),
    ];
    for (text, wanted) in cases {
        let filter: ScimFilter = text
            .parse()
            .unwrap_or_else(|error| panic!("{text}: {error}"));
        assert_eq!(filter.holds(&user()), wanted, "{text}");
    }
}

#[test]
fn and_binds_more_tightly_than_or_and_not_most_of_all() {
    let holds = |text: &str| text.parse::<ScimFilter>().expect("valid").holds(&user());
    assert!(holds("userName eq \"x\" and title pr or active eq true"));
    assert!(holds("active eq true or title pr and userName eq \"x\""));
    assert!(!holds("(active eq true or title pr) and userName eq \"x\""));
    assert!(holds("not (userName eq \"x\") and active eq true"));
    assert!(
        holds("NOT (userName EQ \"x\") AND active EQ true"),
        "operators are without case"
    );
}

#[test]
fn values_of_each_kind_compare_as_their_kind() {
    let record = json!({"count": 12, "share": 0.5, "text": "12", "none": null, "list": [1, 2], "flag": false});
    let holds = |text: &str| text.parse::<ScimFilter>().expect("valid").holds(&record);
    for yes in [
        "count eq 12",
        "count gt 9",
        "share le 0.5",
        "text eq \"12\"",
        "flag eq false",
        "list eq 2",
        "count ne 13",
        "missing ne \"x\"",
    ] {
        assert!(holds(yes), "{yes}");
    }
    for no in [
        "count eq \"12\"",
        "text eq 12",
        "none pr",
        "missing pr",
        "flag pr and flag eq true",
        "text gt \"2\"",
        "count co 1",
    ] {
        assert!(!holds(no), "{no}");
    }
}

#[test]
fn what_is_no_filter_is_refused_with_its_place() {
    for text in [
        "",
        " ",
        "userName",
        "userName eq",
        "eq \"x\"",
        "userName eq 'x'",
        "userName is \"x\"",
        "(userName pr",
        "userName pr)",
        "emails[type eq \"work\"",
        "not userName pr",
        "userName eq \"x\" and",
        "a:b eq 1",
        "userName eq {}",
        "userName eq [1]",
        "1abc pr",
    ] {
        let error = text.parse::<ScimFilter>().expect_err(text);
        assert!(
            error.at >= 1 && error.to_string().contains("RFC 7644"),
            "{text}: {error}"
        );
    }
    assert!(
        "x".repeat(5000)
            .parse::<ScimFilter>()
            .expect_err("long")
            .problem
            .contains("too long")
    );
}

fn patched(operations: Value) -> Value {
    apply(operations).unwrap_or_else(|error| panic!("{error}"))
}

fn apply(operations: Value) -> Result<Value, patch::PatchError> {
    patch::apply(
        &user(),
        &json!({"schemas": [PATCH_OP], "Operations": operations}),
    )
}

#[test]
fn add_adds_and_never_twice() {
    // §3.5.2.1: to a list, to a whole resource, to a complex attribute, and the same value again.
    let email = json!({"value": "b@other.example", "type": "other"});
    let user = patched(
        json!([{"op": "add", "path": "emails", "value": [email]}, {"op": "add", "path": "emails", "value": email}]),
    );
    assert_eq!(user["emails"].as_array().map(Vec::len), Some(3));
    let user = patched(json!([{"op": "add", "value": {"nickName": "Babs", "emails": [email]}}]));
    assert_eq!(
        (
            user["nickName"].as_str(),
            user["emails"].as_array().map(Vec::len)
        ),
        (Some("Babs"), Some(3))
    );
    let user = patched(json!([{"op": "add", "path": "name", "value": {"middleName": "Jane"}}]));
    assert_eq!(user["name"]["middleName"], "Jane");
    assert_eq!(user["name"]["familyName"], "Jensen", "the other parts stay");
    let user = patched(json!([{"op": "add", "path": "name.honorificPrefix", "value": "Ms."}]));
    assert_eq!(user["name"]["honorificPrefix"], "Ms.");
    let user = patched(
        json!([{"op": "add", "path": "emails[type eq \"home\"].display", "value": "Babs"}]),
    );
    assert_eq!(user["emails"][1]["display"], "Babs");
}

#[test]
fn remove_removes_what_it_names_and_nothing_else() {
    // §3.5.2.2
    let user = patched(
        json!([{"op": "remove", "path": "emails[type eq \"work\" and value ew \"@skerry.example\"]"}]),
    );
    assert_eq!(
        user["emails"],
        json!([{"value": "babs@jensen.example", "type": "home"}])
    );
    let user = patched(json!([{"op": "remove", "path": "emails[value pr]"}]));
    assert!(
        user.get("emails").is_none(),
        "a list that is empty is no list"
    );
    let user = patched(
        json!([{"op": "remove", "path": "name.givenName"}, {"op": "remove", "path": "title"}]),
    );
    assert!(user["name"].get("givenName").is_none() && user.get("title").is_none());
    let user =
        patched(json!([{"op": "remove", "path": "addresses[type eq \"work\"].streetAddress"}]));
    assert_eq!(
        user["addresses"][0],
        json!({"type": "work", "locality": "Northhaven"})
    );
    let user = patched(json!([{"op": "remove", "path": ENTERPRISE}]));
    assert!(
        user.get(ENTERPRISE).is_none(),
        "a whole extension can be removed"
    );
    let user = patched(
        json!([{"op": "remove", "path": "nickName"}, {"op": "remove", "path": "ims[type eq \"x\"]"}]),
    );
    assert_eq!(
        user["userName"], "bjensen",
        "what is not there is not missed"
    );
}

#[test]
fn replace_replaces_one_many_or_all() {
    // §3.5.2.3
    let user = patched(
        json!([{"op": "replace", "path": "addresses[type eq \"work\"]", "value": {"type": "work", "streetAddress": "911 Pier"}}]),
    );
    assert_eq!(user["addresses"][0]["streetAddress"], "911 Pier");
    let user = patched(
        json!([{"op": "replace", "path": "addresses[type eq \"work\"].streetAddress", "value": "1010 Pier"}]),
    );
    assert_eq!(
        user["addresses"][0],
        json!({"type": "work", "streetAddress": "1010 Pier", "locality": "Northhaven"})
    );
    let user = patched(
        json!([{"op": "replace", "path": "emails", "value": [{"value": "new@skerry.example"}]}]),
    );
    assert_eq!(user["emails"], json!([{"value": "new@skerry.example"}]));
    let user = patched(json!([{"op": "replace", "value": {"userName": "babs", "active": false}}]));
    assert_eq!(
        (&user["userName"], &user["active"]),
        (&json!("babs"), &json!(false))
    );
    let user = patched(
        json!([{"op": "replace", "path": format!("{ENTERPRISE}:department"), "value": "Galley"}]),
    );
    assert_eq!(
        user[ENTERPRISE],
        json!({"employeeNumber": "701984", "department": "Galley"})
    );
    let user =
        patched(json!([{"op": "replace", "path": ENTERPRISE, "value": {"costCenter": "4"}}]));
    assert_eq!(user[ENTERPRISE]["costCenter"], "4");
    let user = patched(json!([{"op": "replace", "path": "TITLE", "value": "Mate"}]));
    assert_eq!(
        user["title"], "Mate",
        "names are without case, and keep their first spelling"
    );
    let user = patched(json!([{"op": "replace", "path": "title", "value": null}]));
    assert!(
        user.get("title").is_none(),
        "null is no value (RFC 7643 §2.5)"
    );
}

#[test]
fn a_patch_is_applied_whole_or_not_at_all() {
    let error = apply(
        json!([{"op": "replace", "path": "title", "value": "Mate"}, {"op": "replace", "path": "fax[type eq \"x\"].value", "value": "1"}]),
    )
    .expect_err("refused");
    assert_eq!(error.scim_type, "noTarget");
    let refused =
        patch::apply(&user(), &json!({"schemas": [PATCH_OP]})).expect_err("no operations");
    assert_eq!(refused.scim_type, "invalidSyntax");
    for (operation, kind) in [
        (
            json!({"op": "replace", "path": "meta", "value": {}}),
            "mutability",
        ),
        (
            json!({"op": "add", "path": "schemas", "value": ["x"]}),
            "mutability",
        ),
        (
            json!({"op": "replace", "path": "emails[type eq]", "value": "x"}),
            "invalidPath",
        ),
        (
            json!({"op": "replace", "path": "emails[type eq \"work\"]value", "value": "x"}),
            "invalidPath",
        ),
        (
            json!({"op": "replace", "path": "a b", "value": "x"}),
            "invalidPath",
        ),
        (
            json!({"op": "replace", "path": "title.part", "value": "x"}),
            "invalidPath",
        ),
        (json!({"op": "replace", "value": "x"}), "invalidValue"),
    ] {
        assert_eq!(
            apply(json!([operation])).expect_err("refused").scim_type,
            kind,
            "{operation}"
        );
    }
}

#[test]
fn an_error_has_the_body_of_section_3_12() {
    let body = error_body(409, Some("uniqueness"), "userName is taken");
    assert_eq!(
        body["schemas"],
        json!(["urn:ietf:params:scim:api:messages:2.0:Error"])
    );
    assert_eq!(
        (&body["status"], &body["scimType"]),
        (&json!("409"), &json!("uniqueness")),
        "the status is a text"
    );
    assert!(error_body(404, None, "nothing").get("scimType").is_none());
}

fn schemas() -> Vec<Value> {
    let address = json!([{"name": "type", "type": "string", "canonicalValues": ["work", "home"]}, {"name": "locality", "type": "string"},
        {"name": "country", "type": "string"}, {"name": "primary", "type": "boolean"}]);
    vec![
        json!({"id": USER, "attributes": [
            {"name": "userName", "type": "string", "required": true, "caseExact": false},
            {"name": "displayName", "type": "string", "caseExact": true},
            {"name": "addresses", "type": "complex", "multiValued": true, "subAttributes": address},
            {"name": "roles", "type": "string", "multiValued": true},
            {"name": "password", "type": "string", "mutability": "writeOnly"},
            {"name": "groups", "type": "complex", "multiValued": true, "mutability": "readOnly", "subAttributes": [{"name": "value", "type": "string"}]},
        ]}),
        json!({"id": "urn:skerry:schemas:crew:1.0:User", "attributes": [{"name": "berth", "type": "integer"}]}),
    ]
}

#[test]
fn a_services_own_schema_gets_flat_names() {
    let flat = tide_scim::FlatSchema::read(&schemas(), USER);
    let names: Vec<&str> = flat.attributes.keys().map(String::as_str).collect();
    for name in [
        "userName",
        "addresses.work.locality",
        "addresses.home.country",
        "crew.berth",
        "externalId",
        "id",
        "roles",
    ] {
        assert!(names.contains(&name), "{name} in {names:?}");
    }
    assert!(
        !names
            .iter()
            .any(|name| name.ends_with("primary") || name.ends_with(".type")),
        "{names:?}"
    );
    assert!(
        flat.get("USERNAME")
            .is_some_and(|a| a.required && !a.case_exact && a.writable)
    );
    assert!(flat.get("id").is_some_and(|a| !a.writable && a.case_exact));
    assert!(flat.get("groups").is_some_and(|a| !a.writable));
    assert!(flat.get("crew.berth").is_some_and(
        |a| a.scim_type == "integer" && a.path() == "urn:skerry:schemas:crew:1.0:User:berth"
    ));
    assert!(flat.get("nothing").is_none());
}

#[test]
fn parts_of_one_address_belong_to_one_address() {
    let flat = tide_scim::FlatSchema::read(&schemas(), USER);
    let values = [
        ("addresses.work.locality", vec![json!("Northhaven")]),
        ("addresses.work.country", vec![json!("Skerry")]),
        ("addresses.home.locality", vec![json!("Gull Sound")]),
        ("roles", vec![json!("mate"), json!("cook")]),
        ("crew.berth", vec![json!(7)]),
        ("unknown", vec![json!("x")]),
        ("displayName", vec![]),
    ];
    let made = flat.build(
        USER,
        values.iter().map(|(name, values)| (*name, values.clone())),
    );
    assert_eq!(
        made["addresses"],
        json!([{"locality": "Northhaven", "type": "work", "country": "Skerry"}, {"locality": "Gull Sound", "type": "home"}])
    );
    assert_eq!(made["roles"], json!(["mate", "cook"]));
    assert_eq!(
        made["schemas"],
        json!([USER, "urn:skerry:schemas:crew:1.0:User"]),
        "an extension that is used is named"
    );
    assert!(made.get("unknown").is_none() && made.get("displayName").is_none());
    let back = flat.flatten(&made);
    assert_eq!(back["addresses.work.country"], [json!("Skerry")]);
    assert_eq!(back["crew.berth"], [json!(7)]);
    // A change of one part touches that part alone.
    let operations = flat.attributes["addresses.work.locality"]
        .operations(&[json!("Northhaven")], &[json!("Tarn Quay")]);
    let changed = patch::apply(&made, &json!({"Operations": operations})).expect("applies");
    assert_eq!(
        changed["addresses"][0],
        json!({"locality": "Tarn Quay", "type": "work", "country": "Skerry"})
    );
    let operations = flat.attributes["roles"].operations(&[json!("mate")], &[]);
    assert_eq!(operations, [json!({"op": "remove", "path": "roles"})]);
}
