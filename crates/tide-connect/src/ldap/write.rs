//! Writing to a directory: add, modify, modify DN, delete (RFC 4511 §4.6 to 4.9).

use super::schema::{Known, State, is_file_time};
use super::{LdapConnector, accept, dial};
use crate::access::Permit;
use crate::{ConnectError, LdapSettings, Write};
use ldap3::exop::PasswordModify;
use ldap3::{Ldap, LdapError, Mod};
use std::collections::HashSet;
use tide_core::compare::ValueChange;
use tide_core::decide::ChangeKind;
use tide_core::{ObjectType, Value};
use tide_ldap::{Dn, syntax};

/// How the account is found again after the write.
pub(super) enum Done {
    /// By its lasting key; the name is for messages.
    Keyed(String, String),
    /// By its name, for one that was just made.
    Named(String),
    /// Not at all: it is gone. Its key and its name.
    Gone(String, String),
}

type Octets = Vec<u8>;

/// How many values are looked at one by one after a change was refused because of some of them.
const LOOKS: usize = 200;

fn octets(attribute: &str, value: &Value) -> Octets {
    match value {
        Value::Time(time) if is_file_time(attribute) => syntax::to_file_time(*time).to_string().into_bytes(),
        // A domain controller takes passwords in quotes and in UTF-16.
        Value::Text(text) if attribute.eq_ignore_ascii_case("unicodePwd") => {
            format!("\"{text}\"").encode_utf16().flat_map(u16::to_le_bytes).collect()
        }
        Value::Bool(true) => b"TRUE".to_vec(),
        Value::Bool(false) => b"FALSE".to_vec(),
        Value::Bytes(bytes) => bytes.clone(),
        Value::Time(time) => syntax::to_generalized_time(*time).into_bytes(),
        other => other.to_string().into_bytes(),
    }
}

fn set(attribute: &str, values: &[Value]) -> HashSet<Octets> {
    values.iter().map(|value| octets(attribute, value)).collect()
}

/// How an attribute's values are changed. References are written as differences, so that a large
/// group is never sent whole for one member; everything else is replaced.
fn modification(value: &ValueChange) -> Vec<Mod<Octets>> {
    let name = || value.attribute.clone().into_bytes();
    let (before, after) = (set(&value.attribute, &value.before), set(&value.attribute, &value.after));
    let reference = value.before.iter().chain(&value.after).any(|v| matches!(v, Value::Reference(_)));
    if !reference || before.is_empty() || after.is_empty() {
        return vec![Mod::Replace(name(), after)];
    }
    let gone: HashSet<Octets> = before.difference(&after).cloned().collect();
    let new: HashSet<Octets> = after.difference(&before).cloned().collect();
    let mut changes = Vec::new();
    // Added first: a group that must have a member is never empty between the two.
    if !new.is_empty() {
        changes.push(Mod::Add(name(), new));
    }
    if !gone.is_empty() {
        changes.push(Mod::Delete(name(), gone));
    }
    changes
}

/// A lost answer of an add may hide an entry; the other operations can be sent again as they are.
fn lost(settings: &LdapSettings, error: &LdapError, adding: bool) -> ConnectError {
    let fault = dial::broken(&settings.url, error);
    if adding { ConnectError::unknown(fault.code, fault.said, "it is looked for before anything is sent again") } else { fault }
}

impl LdapConnector {
    /// Sends a change; to an entry that was renamed since, or by an attempt whose answer was lost, under the name that it has now.
    pub(super) async fn sent(&self, ldap: &mut Ldap, known: &Known, write: &Write, permit: &Permit) -> Result<Done, ConnectError> {
        let error = match send(ldap, self.settings(), known, write, permit).await {
            Err(error) if error.code == "no_such_object" => error,
            other => return other,
        };
        let Some((key, name)) = &write.account else { return Err(error) };
        let found = match self.by_key(key, name).await {
            Ok(found) => found,
            // What is not there is as it was wanted.
            Err(gone) if write.kind == ChangeKind::Delete && gone.code == "gone" => return Ok(Done::Gone(key.clone(), name.clone())),
            Err(_) => return Err(error),
        };
        let is_called = |other: &str| found.name.parse::<Dn>().ok().zip(other.parse::<Dn>().ok()).is_some_and(|(a, b)| a == b);
        if is_called(name) {
            return Err(error);
        }
        let named = write.values.iter().find(|value| value.attribute.eq_ignore_ascii_case("dn")).and_then(|value| value.after.first());
        if matches!(write.kind, ChangeKind::Rename | ChangeKind::Move) && named.is_some_and(|dn| is_called(&dn.to_string())) {
            return Ok(Done::Keyed(key.clone(), found.name));
        }
        let write = Write { account: Some((key.clone(), found.name)), ..write.clone() };
        send(ldap, self.settings(), known, &write, permit).await
    }
}

async fn send(ldap: &mut Ldap, settings: &LdapSettings, known: &Known, write: &Write, _permit: &Permit) -> Result<Done, ConnectError> {
    let ours = |value: &&ValueChange| ["dn", "enabled", "container"].iter().any(|n| value.attribute.eq_ignore_ascii_case(n));
    let named = write.values.iter().find(|v| v.attribute.eq_ignore_ascii_case("dn")).and_then(|v| v.after.first()).map(Value::to_string);
    let wait = dial::seconds(settings);
    if write.kind == ChangeKind::Create {
        let dn = named.ok_or_else(|| {
            ConnectError::lasting(
                "no_dn",
                "a new entry needs a name, and no mapping gives one",
                "map `dn`, for example: dn = '\"uid=\" + identity.uid + \",ou=people,dc=skerry,dc=example\"'",
            )
        })?;
        let mut attributes: Vec<(Octets, HashSet<Octets>)> =
            write.values.iter().filter(|v| !ours(v)).map(|v| (v.attribute.clone().into_bytes(), set(&v.attribute, &v.after))).collect();
        // Who is to be disabled is never usable, not even between two operations.
        let wants =
            |state: bool| write.values.iter().any(|v| v.attribute.eq_ignore_ascii_case("enabled") && v.after == [Value::Bool(state)]);
        let disabled = wants(false);
        // A domain controller makes accounts disabled, and lets only those in who have a password.
        let password = write.values.iter().any(|v| v.attribute.eq_ignore_ascii_case("unicodePwd"));
        if wants(true)
            && password
            && known.state == State::ControlFlags
            && let Mod::Replace(name, values) = state_change(known.state, false, &[])?
        {
            attributes.push((name, values));
        }
        if disabled && let Mod::Replace(name, values) = state_change(known.state, true, &[])? {
            attributes.push((name, values));
        }
        let result = ldap.with_timeout(wait).add(&dn, attributes).await.map_err(|e| lost(settings, &e, true))?;
        accept(&result, &format!("adding {dn}"))?;
        return Ok(Done::Named(dn));
    }
    let Some((key, name)) = write.account.clone() else {
        return Err(ConnectError::lasting("no_account", "the change names no account", "decide again: start a new run"));
    };
    match write.kind {
        ChangeKind::Rename | ChangeKind::Move => {
            let target: Dn = named
                .ok_or_else(|| ConnectError::lasting("no_dn", format!("the new name of {name} is missing"), "map `dn`"))?
                .parse()
                .map_err(|error: tide_ldap::DnError| ConnectError::lasting("dn", error.to_string(), "correct the mapping of `dn`"))?;
            let rdn = target.rdn_text().unwrap_or_default();
            let parent = target.parent().map(|p| p.to_string());
            let result =
                ldap.with_timeout(wait).modifydn(&name, &rdn, true, parent.as_deref()).await.map_err(|e| lost(settings, &e, false))?;
            accept(&result, &format!("renaming {name}"))?;
        }
        ChangeKind::Delete => {
            let result = ldap.with_timeout(wait).delete(&name).await.map_err(|e| lost(settings, &e, false))?;
            accept(&result, &format!("deleting {name}"))?;
            return Ok(Done::Gone(key, name));
        }
        ChangeKind::Enable | ChangeKind::Disable => {
            let change = state_change(known.state, write.kind == ChangeKind::Disable, &write.values)?;
            let result = ldap.with_timeout(wait).modify(&name, vec![change]).await.map_err(|e| lost(settings, &e, false))?;
            // Deleting a lock that is not there (code 16) is what was wanted.
            if result.rc != 16 {
                accept(&result, &format!("{} {name}", if write.kind == ChangeKind::Disable { "disabling" } else { "enabling" }))?;
            }
        }
        ChangeKind::Grant | ChangeKind::Revoke if write.object == ObjectType::Group => {
            let one = |value: &ValueChange| match write.kind {
                ChangeKind::Grant => Mod::Add(value.attribute.clone().into_bytes(), set(&value.attribute, &value.after)),
                _ => Mod::Delete(value.attribute.clone().into_bytes(), set(&value.attribute, &value.before)),
            };
            let changes: Vec<Mod<Octets>> = write.values.iter().map(one).collect();
            let many = write.values.iter().map(|value| value.before.len() + value.after.len()).sum::<usize>() > 1;
            let result = ldap.with_timeout(wait).modify(&name, changes).await.map_err(|e| lost(settings, &e, false))?;
            // Who is a member already, or none any more, is as it was wanted (codes 20 and 16; 68 and 53 of a domain controller, of which
            // the last may mean anything). Of several it is not known who.
            let done = !many && result.rc != 0 && is_so(ldap, wait, &name, write).await;
            if !done {
                accept(&result, &format!("changing the members of {name}"))?;
            }
        }
        ChangeKind::Password => password(ldap, settings, known, &name, &write.values).await?,
        _ => {
            let changes: Vec<Mod<Octets>> = write.values.iter().filter(|v| !ours(v)).flat_map(modification).collect();
            let mut result = ldap.with_timeout(wait).modify(&name, changes).await.map_err(|e| lost(settings, &e, false))?;
            // A directory that follows renames by itself, or somebody else, was faster (codes 20 and 16; 68 and 53 of a domain
            // controller): only what differs still is sent.
            if matches!(result.rc, 16 | 20) || known.controller && matches!(result.rc, 53 | 68) {
                let values = write.values.iter().filter(|v| !ours(v));
                match differs_still(ldap, wait, &name, values).await {
                    Some(left) if left.is_empty() => return Ok(Done::Keyed(key, name)),
                    Some(left) => result = ldap.with_timeout(wait).modify(&name, left).await.map_err(|e| lost(settings, &e, false))?,
                    None => {}
                }
            }
            accept(&result, &format!("changing {name}"))?;
        }
    }
    Ok(Done::Keyed(key, name))
}

/// What of some values is not as it is wanted yet, looked at one by one; nothing when that cannot be told, or they are too many.
async fn differs_still<'a>(
    ldap: &mut Ldap,
    wait: std::time::Duration,
    name: &str,
    values: impl Iterator<Item = &'a ValueChange>,
) -> Option<Vec<Mod<Octets>>> {
    let mut left = Vec::new();
    let mut looks = 0;
    for change in values.flat_map(modification) {
        let (attribute, values, wanted) = match &change {
            Mod::Add(attribute, values) => (attribute, values, true),
            Mod::Delete(attribute, values) => (attribute, values, false),
            _ => {
                left.push(change);
                continue;
            }
        };
        let text = std::str::from_utf8(attribute).ok()?;
        let mut open = HashSet::new();
        for value in values {
            looks += 1;
            if looks > LOOKS {
                return None;
            }
            if holds(ldap, wait, name, text, std::str::from_utf8(value).ok()?).await? != wanted {
                open.insert(value.clone());
            }
        }
        if !open.is_empty() {
            left.push(if wanted { Mod::Add(attribute.clone(), open) } else { Mod::Delete(attribute.clone(), open) });
        }
    }
    Some(left)
}

/// Does an entry hold a value? Nothing when it cannot be looked up.
async fn holds(ldap: &mut Ldap, wait: std::time::Duration, name: &str, attribute: &str, value: &str) -> Option<bool> {
    let filter = tide_ldap::Filter::equal(attribute, value).to_string();
    let found = ldap.with_timeout(wait).search(name, ldap3::Scope::Base, &filter, vec!["1.1"]).await;
    found.and_then(|answer| answer.success()).map(|(entries, _)| !entries.is_empty()).ok()
}

/// Does a group hold, or no longer hold, the one member that a change is about?
async fn is_so(ldap: &mut Ldap, wait: std::time::Duration, group: &str, write: &Write) -> bool {
    let Some(value) = write.values.first() else { return false };
    let Some(member) = value.after.first().or(value.before.first()) else { return false };
    // What cannot be looked up is told by the answer to the change.
    let there = holds(ldap, wait, group, &value.attribute, &member.to_string()).await;
    matches!((write.kind, there), (ChangeKind::Grant, Some(true)) | (ChangeKind::Revoke, Some(false)))
}

/// Sets a password: by the extended operation made for it (RFC 3062), where the directory offers it, so that it is kept as its
/// own policy wants; as a value where not.
async fn password(ldap: &mut Ldap, settings: &LdapSettings, known: &Known, name: &str, values: &[ValueChange]) -> Result<(), ConnectError> {
    let wait = dial::seconds(settings);
    let must_change = |value: &&ValueChange| value.attribute == tide_core::decide::MUST_CHANGE;
    let Some(new) = values.iter().find(|value| !must_change(value)) else { return Ok(()) };
    let doing = format!("setting the password of {name}");
    // A password that an administrator sets unlocks the account (draft-behera §5.3.3): who is locked stays so.
    let locked = known.state == State::LockedTime && is_locked(ldap, settings, name).await?;
    // A hash that is carried stays what it is: the operation for passwords would hash it again.
    let carried = matches!(new.after.first(), Some(Value::Bytes(_)));
    if new.attribute.eq_ignore_ascii_case("userPassword") && known.modifies_passwords && !carried {
        let text = zeroize::Zeroizing::new(new.after.first().map(Value::to_string).unwrap_or_default());
        let request = PasswordModify { user_id: Some(name), old_pass: None, new_pass: Some(&text) };
        let result = ldap.with_timeout(wait).extended(request).await.map_err(|e| lost(settings, &e, false))?.1;
        accept(&result, &doing)?;
    } else {
        let result = ldap.with_timeout(wait).modify(name, modification(new)).await.map_err(|e| lost(settings, &e, false))?;
        accept(&result, &doing)?;
    }
    if locked {
        let result = ldap.with_timeout(wait).modify(name, vec![state_change(known.state, true, &[])?]).await;
        accept(&result.map_err(|e| lost(settings, &e, false))?, &format!("locking {name} again"))?;
    }
    if values.iter().any(|value| must_change(&value)) {
        let one = |text: &str| HashSet::from([text.as_bytes().to_vec()]);
        // draft-behera §5.3.6; a domain controller takes 0 as never set.
        let change = match known.controller {
            true => Mod::Replace(b"pwdLastSet".to_vec(), one("0")),
            false => Mod::Replace(b"pwdReset".to_vec(), one("TRUE")),
        };
        let result = ldap.with_timeout(wait).modify(name, vec![change]).await.map_err(|e| lost(settings, &e, false))?;
        accept(&result, &format!("asking {name} for a new password at the next log-in"))?;
    }
    Ok(())
}

async fn is_locked(ldap: &mut Ldap, settings: &LdapSettings, name: &str) -> Result<bool, ConnectError> {
    let attributes = vec!["pwdAccountLockedTime"];
    let found = ldap.with_timeout(dial::seconds(settings)).search(name, ldap3::Scope::Base, "(pwdAccountLockedTime=*)", attributes).await;
    let found = found.map_err(|e| lost(settings, &e, false))?;
    accept(&found.1, &format!("looking whether {name} is locked"))?;
    Ok(!found.0.is_empty())
}

fn state_change(state: State, disable: bool, values: &[ValueChange]) -> Result<Mod<Octets>, ConnectError> {
    let one = |text: &str| HashSet::from([text.as_bytes().to_vec()]);
    Ok(match (state, disable) {
        (State::Lock, true) => Mod::Replace(b"nsAccountLock".to_vec(), one("TRUE")),
        (State::Lock, false) => Mod::Replace(b"nsAccountLock".to_vec(), HashSet::new()),
        // RFC draft-behera §5.3.3: this value locks an account until an administrator unlocks it.
        (State::LockedTime, true) => Mod::Replace(b"pwdAccountLockedTime".to_vec(), one("000001010000Z")),
        (State::LockedTime, false) => Mod::Replace(b"pwdAccountLockedTime".to_vec(), HashSet::new()),
        (State::ControlFlags, _) => {
            let flags = values.iter().find(|v| v.attribute.eq_ignore_ascii_case("userAccountControl")).and_then(|v| v.before.first());
            let flags = match flags {
                Some(Value::Int(flags)) => *flags,
                _ => 512,
            };
            let flags = if disable { flags | 2 } else { flags & !2 };
            Mod::Replace(b"userAccountControl".to_vec(), one(&flags.to_string()))
        }
        (State::None, _) => {
            return Err(ConnectError::lasting(
                "no_state",
                "this directory keeps no account state",
                "load its password policy overlay, or map the attribute that your applications obey",
            ));
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use tide_core::Place;

    fn parts(change: Mod<Octets>) -> (String, Vec<String>) {
        match change {
            Mod::Replace(name, values) => {
                let text = |octets: Octets| String::from_utf8(octets).expect("text");
                (text(name), values.into_iter().map(text).collect())
            }
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn each_directory_is_told_in_its_own_way() {
        let of = |state, disable| parts(state_change(state, disable, &[]).expect("offered"));
        assert_eq!(of(State::LockedTime, true), ("pwdAccountLockedTime".into(), vec!["000001010000Z".into()]));
        assert_eq!(of(State::LockedTime, false), ("pwdAccountLockedTime".into(), vec![]));
        assert_eq!(of(State::Lock, true), ("nsAccountLock".into(), vec!["TRUE".into()]));
        assert_eq!(of(State::Lock, false), ("nsAccountLock".into(), vec![]));
        assert_eq!(of(State::ControlFlags, true), ("userAccountControl".into(), vec!["514".into()]));
        assert_eq!(of(State::ControlFlags, false), ("userAccountControl".into(), vec!["512".into()]));
        let refused = state_change(State::None, true, &[]).expect_err("not offered");
        assert_eq!(refused.code, "no_state");
    }

    #[test]
    fn the_other_flags_of_an_account_stay() {
        let flags = ValueChange {
            attribute: "userAccountControl".into(),
            before: vec![Value::Int(66048)],
            after: vec![],
            rule: Place::default(),
            later: Vec::new(),
        };
        let (_, values) = parts(state_change(State::ControlFlags, true, std::slice::from_ref(&flags)).expect("offered"));
        assert_eq!(values, ["66050"]);
    }

    #[test]
    fn members_are_written_as_differences_and_times_in_the_attributes_own_way() {
        let members = |names: &[&str]| names.iter().map(|n| Value::Reference((*n).into())).collect::<Vec<_>>();
        let change = ValueChange {
            attribute: "member".into(),
            before: members(&["cn=a", "cn=b"]),
            after: members(&["cn=b", "cn=c"]),
            rule: Place::default(),
            later: Vec::new(),
        };
        let one = |text: &str| HashSet::from([text.as_bytes().to_vec()]);
        assert_eq!(modification(&change), [Mod::Add(b"member".to_vec(), one("cn=c")), Mod::Delete(b"member".to_vec(), one("cn=a"))]);
        let expires = Value::Time("2025-11-24T11:16:46Z".parse().expect("valid"));
        assert_eq!(octets("accountExpires", &expires), b"134084566060000000");
    }

    #[test]
    fn values_are_written_as_ldap_writes_them() {
        let time = Value::Time("2026-11-23T07:36:46Z".parse().expect("valid"));
        for (value, wanted) in [
            (Value::Bool(true), &b"TRUE"[..]),
            (Value::Bool(false), b"FALSE"),
            (Value::Int(-5), b"-5"),
            (time, b"20261123073646Z"),
            (Value::Bytes(vec![0, 255]), &[0, 255]),
            (Value::text("é"), "é".as_bytes()),
            (Value::Reference("cn=x".into()), b"cn=x"),
        ] {
            assert_eq!(octets("x", &value), wanted, "{value:?}");
        }
    }
}
