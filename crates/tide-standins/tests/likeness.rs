//! The stand-ins behave as the real ones do: the same calls against slapd and the LDAP stand-in
//! give the same answers, and the SCIM service keeps to its standard.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use ldap3::{Ldap, LdapConnAsync, Mod, Scope, SearchEntry};
use serde_json::{Value, json};
use std::collections::HashSet;
use tide_standins::directory::Directory;
use tide_standins::scim_service::ScimService;
use tide_standins::slapd::Slapd;
use tide_standins::world::{self, BASE};

async fn dial(url: &str) -> Ldap {
    let (connection, ldap) = LdapConnAsync::new(url).await.expect("connects");
    tokio::spawn(async move { connection.drive().await });
    ldap
}

fn set(text: &str) -> HashSet<&str> {
    HashSet::from([text])
}

async fn names(ldap: &mut Ldap, base: &str, scope: Scope, filter: &str) -> (u32, Vec<String>) {
    let answer = ldap
        .search(base, scope, filter, vec!["uid"])
        .await
        .expect("answered");
    let mut names: Vec<String> = answer
        .0
        .into_iter()
        .map(|e| SearchEntry::construct(e).dn.to_lowercase())
        .collect();
    names.sort();
    (answer.1.rc, names)
}

/// One script of calls; its answers are compared.
async fn script(url: &str, admin: &str, password: &str) -> Vec<String> {
    let mut told = Vec::new();
    let mut ldap = dial(url).await;
    told.push(format!(
        "wrong password {}",
        ldap.simple_bind(admin, "wrong").await.expect("answered").rc
    ));
    told.push(format!(
        "right password {}",
        ldap.simple_bind(admin, password)
            .await
            .expect("answered")
            .rc
    ));
    let people = format!("ou=people,{BASE}");
    for (what, base, scope, filter) in [
        ("base", people.as_str(), Scope::Base, "(objectClass=*)"),
        (
            "one level",
            people.as_str(),
            Scope::OneLevel,
            "(objectClass=organizationalUnit)",
        ),
        (
            "below",
            people.as_str(),
            Scope::Subtree,
            "(&(objectClass=inetOrgPerson)(uid=kiosk*))",
        ),
        (
            "without",
            people.as_str(),
            Scope::Subtree,
            "(&(objectClass=inetOrgPerson)(!(employeeNumber=*)))",
        ),
        (
            "either",
            people.as_str(),
            Scope::Subtree,
            "(|(uid=kiosk1)(uid=KIOSK2))",
        ),
        ("middle", people.as_str(), Scope::Subtree, "(uid=*iosk*)"),
        ("nobody", people.as_str(), Scope::Subtree, "(uid=nobody)"),
        (
            "nowhere",
            "ou=nowhere,dc=skerry,dc=example",
            Scope::Subtree,
            "(objectClass=*)",
        ),
    ] {
        told.push(format!(
            "{what} {:?}",
            names(&mut ldap, base, scope, filter).await
        ));
    }
    let dn = format!("uid=new.hand,ou=Deck,{people}");
    let entry = || {
        vec![
            ("objectClass", set("inetOrgPerson")),
            ("uid", set("new.hand")),
            ("cn", set("New Hand")),
            ("sn", set("Hand")),
        ]
    };
    told.push(format!(
        "add {}",
        ldap.add(&dn, entry()).await.expect("answered").rc
    ));
    told.push(format!(
        "add again {}",
        ldap.add(&dn, entry()).await.expect("answered").rc
    ));
    told.push(format!(
        "replace {}",
        ldap.modify(&dn, vec![Mod::Replace("title", set("Mate"))])
            .await
            .expect("answered")
            .rc
    ));
    told.push(format!(
        "add a value {}",
        ldap.modify(&dn, vec![Mod::Add("mail", set("n@skerry.example"))])
            .await
            .expect("answered")
            .rc
    ));
    told.push(format!(
        "clear {}",
        ldap.modify(&dn, vec![Mod::Replace("title", HashSet::new())])
            .await
            .expect("answered")
            .rc
    ));
    told.push(format!(
        "change nobody {}",
        ldap.modify(
            &format!("uid=x,{people}"),
            vec![Mod::Replace("title", set("x"))]
        )
        .await
        .expect("answered")
        .rc
    ));
    let uuid = |answer: Vec<ldap3::ResultEntry>| {
        answer
            .into_iter()
            .next()
            .map(|e| SearchEntry::construct(e).attrs.remove("entryUUID"))
    };
    let before = uuid(
        ldap.search(&dn, Scope::Base, "(objectClass=*)", vec!["entryUUID"])
            .await
            .expect("answered")
            .0,
    );
    told.push(format!(
        "rename {}",
        ldap.modifydn(&dn, "uid=old.hand", true, None)
            .await
            .expect("answered")
            .rc
    ));
    let dn = format!("uid=old.hand,ou=Deck,{people}");
    told.push(format!(
        "move {}",
        ldap.modifydn(
            &dn,
            "uid=old.hand",
            true,
            Some(&format!("ou=former,{BASE}"))
        )
        .await
        .expect("answered")
        .rc
    ));
    let dn = format!("uid=old.hand,ou=former,{BASE}");
    let after = uuid(
        ldap.search(&dn, Scope::Base, "(objectClass=*)", vec!["entryUUID"])
            .await
            .expect("answered")
            .0,
    );
    told.push(format!(
        "the same entry {}",
        before.is_some() && before == after
    ));
    told.push(format!(
        "found by its new name {:?}",
        names(&mut ldap, BASE, Scope::Subtree, "(uid=old.hand)").await
    ));
    told.push(format!(
        "delete {}",
        ldap.delete(&dn).await.expect("answered").rc
    ));
    told.push(format!(
        "delete again {}",
        ldap.delete(&dn).await.expect("answered").rc
    ));
    told
}

#[tokio::test]
async fn slapd_and_the_stand_in_answer_alike() {
    let people = world::people(world::SEED, 30);
    let entries = world::directory(&people, "service-secret");
    let slapd = Slapd::start(&entries).expect("slapd starts: scripts/test installs it");
    let standin = Directory::start(&entries, "admin-secret")
        .await
        .expect("starts");
    let real = script(&slapd.url, &slapd.admin_dn, &slapd.admin_password).await;
    let ours = script(&standin.url, &standin.admin_dn, "admin-secret").await;
    assert_eq!(real, ours);
}

struct Http {
    base: String,
    token: String,
    client: reqwest::Client,
}

impl Http {
    async fn call(&self, method: &str, path: &str, body: Option<Value>) -> (u16, Value) {
        let method = reqwest::Method::from_bytes(method.as_bytes()).expect("a method");
        let mut request = self
            .client
            .request(method, format!("{}{path}", self.base))
            .bearer_auth(&self.token);
        if let Some(body) = body {
            request = request
                .header("content-type", "application/scim+json")
                .body(body.to_string());
        }
        let response = request.send().await.expect("answered");
        let status = response.status().as_u16();
        (
            status,
            serde_json::from_slice(&response.bytes().await.expect("read")).unwrap_or(Value::Null),
        )
    }
}

/// The SCIM stand-in, with a caller who knows the token.
async fn scim() -> (ScimService, Http) {
    let service = ScimService::start(world::berthing(&world::people(world::SEED, 300)), "t")
        .await
        .expect("starts");
    // Plain HTTP on loopback, and still the client wants a TLS provider.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let client = reqwest::Client::builder()
        .tls_backend_rustls()
        .no_proxy()
        .build()
        .expect("built");
    let http = Http {
        base: service.url.clone(),
        token: "t".into(),
        client,
    };
    (service, http)
}

#[tokio::test]
async fn the_scim_service_authenticates_describes_itself_and_pages() {
    let (_service, http) = scim().await;
    let stranger = Http {
        base: http.base.clone(),
        token: "wrong".into(),
        client: http.client.clone(),
    };
    assert_eq!(stranger.call("GET", "/Users", None).await.0, 401);

    for path in ["/ServiceProviderConfig", "/Schemas", "/ResourceTypes"] {
        assert_eq!(http.call("GET", path, None).await.0, 200, "{path}");
    }
    let (_, first) = http.call("GET", "/Users?startIndex=1&count=10", None).await;
    let (_, second) = http
        .call("GET", "/Users?startIndex=11&count=10", None)
        .await;
    assert_eq!(
        (
            first["itemsPerPage"].as_u64(),
            first["totalResults"].as_u64()
        ),
        (Some(10), Some(126))
    );
    assert_ne!(first["Resources"][0]["id"], second["Resources"][0]["id"]);
    assert_eq!(
        http.call("GET", "/Users?filter=nonsense", None).await.1["scimType"],
        "invalidFilter"
    );
}

fn ada() -> Value {
    json!({"schemas": [tide_scim::USER], "userName": " Ada@Skerry.example ", "displayName": " Ada ", "phoneNumbers": [{"value": "+99 1", "type": "work"}]})
}

#[tokio::test]
async fn the_scim_service_normalizes_and_refuses_a_second_user_of_the_same_name() {
    let (_service, http) = scim().await;
    let (status, made) = http.call("POST", "/Users", Some(ada())).await;
    assert_eq!(
        (
            status,
            made["userName"].as_str(),
            made["displayName"].as_str()
        ),
        (201, Some("ada@skerry.example"), Some("Ada"))
    );
    assert_eq!(
        (
            made["phoneNumbers"][0]["value"].as_str(),
            made["active"].as_bool()
        ),
        (Some("+991"), Some(true))
    );
    let (status, refused) = http.call("POST", "/Users", Some(ada())).await;
    assert_eq!(
        (status, refused["scimType"].as_str()),
        (409, Some("uniqueness"))
    );
    assert_eq!(
        http.call("POST", "/Users", Some(json!({"displayName": "x"})))
            .await
            .1["scimType"],
        "invalidValue"
    );
}

#[tokio::test]
async fn the_scim_service_patches_replaces_finds_and_deletes() {
    let (service, http) = scim().await;
    let (_, made) = http.call("POST", "/Users", Some(ada())).await;
    let path = format!("/Users/{}", made["id"].as_str().expect("an id"));
    let version = made["meta"]["version"].clone();
    let patch = json!({"schemas": [tide_scim::PATCH_OP], "Operations": [{"op": "replace", "path": "title", "value": "Mate"}]});
    let (status, changed) = http.call("PATCH", &path, Some(patch)).await;
    assert_eq!((status, changed["title"].as_str()), (200, Some("Mate")));
    assert_ne!(
        changed["meta"]["version"], version,
        "each change has a version of its own"
    );
    let bad = json!({"Operations": [{"op": "replace", "path": "fax[type eq \"x\"].value", "value": "1"}]});
    assert_eq!(
        http.call("PATCH", &path, Some(bad)).await.1["scimType"],
        "noTarget"
    );
    let (_, replaced) = http
        .call(
            "PUT",
            &path,
            Some(json!({"userName": "ada@skerry.example"})),
        )
        .await;
    assert!(replaced.get("title").is_none() && replaced["id"] == made["id"]);
    let (_, found) = http
        .call(
            "GET",
            "/Users?filter=userName%20eq%20%22ADA@skerry.example%22",
            None,
        )
        .await;
    assert_eq!(found["totalResults"], 1);
    assert_eq!(http.call("DELETE", &path, None).await.0, 204);
    assert_eq!(http.call("GET", &path, None).await.0, 404);
    assert_eq!(http.call("GET", "/Cats", None).await.0, 404);
    let (status, group) = http
        .call(
            "POST",
            "/Groups",
            Some(json!({"schemas": [tide_scim::GROUP], "displayName": "Deck"})),
        )
        .await;
    assert_eq!(
        (status, group["meta"]["resourceType"].as_str()),
        (201, Some("Group"))
    );
    assert!(service.take_writes().len() >= 6);
}

#[test]
fn certificates_are_made_for_the_names_that_are_asked_for() {
    let made = tide_standins::certs::make(&["127.0.0.1", "harbour.skerry.example"]).expect("made");
    for (pem, kind) in [
        (&made.ca_pem, "CERTIFICATE"),
        (&made.server_pem, "CERTIFICATE"),
        (&made.server_key_pem, "PRIVATE KEY"),
    ] {
        assert!(pem.starts_with(&format!("-----BEGIN {kind}-----")), "{pem}");
    }
    assert_ne!(made.ca_pem, made.server_pem);
}
