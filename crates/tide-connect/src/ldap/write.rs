//! Writing to a directory: add, modify, modify DN, delete (RFC 4511 §4.6 to 4.9).

use super::schema::{DirectoryCapabilities, State, is_file_time};
use super::{LdapConnector, check_result, dial};
use crate::access::Permit;
use crate::{ConnectError, LdapSettings, Write};
use ldap3::exop::PasswordModify;
use ldap3::{Ldap, LdapError, LdapResult, Mod};
use std::collections::HashSet;
use tide_core::compare::ValueChange;
use tide_core::states::ChangeKind;
use tide_core::{ObjectType, Value};
use tide_ldap::{Dn, syntax};

/// How the account is found again after the write.
pub(super) enum WrittenAccount {
    /// By its lasting key; the name is for messages.
    Keyed(String, String),
    /// By its name, for one that was just created.
    Named(String),
    /// It is gone: its key and its name.
    Gone(String, String),
}

type Octets = Vec<u8>;

/// Maximum number of values that are checked individually after a change was refused because of
/// some of them.
const LOOKS: usize = 200;

fn octets(attribute: &str, value: &Value) -> Octets {
    match value {
        Value::Time(time) if is_file_time(attribute) => {
            syntax::to_file_time(*time).to_string().into_bytes()
        }
        // A domain controller takes passwords in quotes and in UTF-16.
        Value::Text(text) if attribute.eq_ignore_ascii_case("unicodePwd") => format!("\"{text}\"")
            .encode_utf16()
            .flat_map(u16::to_le_bytes)
            .collect(),
        Value::Bool(true) => b"TRUE".to_vec(),
        Value::Bool(false) => b"FALSE".to_vec(),
        Value::Bytes(bytes) => bytes.clone(),
        Value::Time(time) => syntax::to_generalized_time(*time).into_bytes(),
        other => other.to_string().into_bytes(),
    }
}

fn set(attribute: &str, values: &[Value]) -> HashSet<Octets> {
    values
        .iter()
        .map(|value| octets(attribute, value))
        .collect()
}

/// The value of `pwdAccountLockedTime` with which an administrator locks an account
/// (draft-behera-ldap-password-policy §5.3.3). Any other value is a temporary lock after too many
/// wrong passwords, which we did not set.
pub(super) const LOCKED_FOR_GOOD: &str = "000001010000Z";

/// Number of attempts to change account flags when others change them at the same time.
const RACES: usize = 4;

/// How an attribute is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum ValueWriteMode {
    /// All values at once. A single-valued attribute holds one value at every moment, so it must be
    /// replaced.
    Replace,
    /// As differences, so that a large group is never sent whole for one member, and what others
    /// wrote stays.
    Differences,
}

/// How an attribute of a write is to be written.
fn write_manner(
    value: &ValueChange,
    known: &DirectoryCapabilities,
    merged: &[String],
) -> ValueWriteMode {
    let single = known
        .def(super::entry::plain_of(&value.attribute).0)
        .is_some_and(|def| !def.multi_valued);
    if single {
        ValueWriteMode::Replace
    } else if merged
        .iter()
        .any(|name| name.eq_ignore_ascii_case(&value.attribute))
    {
        ValueWriteMode::Differences
    } else {
        let reference = value
            .before
            .iter()
            .chain(&value.after)
            .any(|v| matches!(v, Value::Reference(_)));
        if reference && !value.before.is_empty() && !value.after.is_empty() {
            ValueWriteMode::Differences
        } else {
            ValueWriteMode::Replace
        }
    }
}

/// The modifications of one attribute (RFC 4511 §4.6).
fn modification(value: &ValueChange, manner: ValueWriteMode) -> Vec<Mod<Octets>> {
    let name = || value.attribute.clone().into_bytes();
    let (before, after) = (
        set(&value.attribute, &value.before),
        set(&value.attribute, &value.after),
    );
    if manner == ValueWriteMode::Replace {
        // A domain controller protects this attribute from being deleted: "never" is 0.
        let never = after.is_empty() && value.attribute.eq_ignore_ascii_case("accountExpires");
        return vec![Mod::Replace(
            name(),
            if never {
                HashSet::from([b"0".to_vec()])
            } else {
                after
            },
        )];
    }
    let gone: HashSet<Octets> = before.difference(&after).cloned().collect();
    let new: HashSet<Octets> = after.difference(&before).cloned().collect();
    // Added first: a group that must have a member is never empty between the two.
    let adding = (!new.is_empty()).then(|| Mod::Add(name(), new));
    let deleting = (!gone.is_empty()).then(|| Mod::Delete(name(), gone));
    adding.into_iter().chain(deleting).collect()
}

/// The modifications that give or take memberships: nothing is ever replaced by them.
fn membership_modifications(values: &[ValueChange]) -> Vec<Mod<Octets>> {
    values
        .iter()
        .flat_map(|value| modification(value, ValueWriteMode::Differences))
        .collect()
}

/// A lost answer of an add may hide an entry; the other operations can be sent again as they are.
fn write_error(settings: &LdapSettings, error: &LdapError, adding: bool) -> ConnectError {
    let fault = dial::connection_error(&settings.url, error);
    if adding {
        ConnectError::unknown_outcome(
            fault.code,
            fault.message,
            "a look-up precedes any further request",
        )
    } else {
        fault
    }
}

impl LdapConnector {
    /// Sends a change. An entry that was renamed since, or by an attempt whose answer was lost,
    /// is addressed by its current name.
    pub(super) async fn send_write(
        &self,
        ldap: &mut Ldap,
        known: &DirectoryCapabilities,
        write: &Write,
        permit: &Permit,
    ) -> Result<WrittenAccount, ConnectError> {
        let error = match send(ldap, self.settings(), known, write, permit).await {
            Err(error) if error.code == "no_such_object" => error,
            other => return other,
        };
        let Some((key, name)) = &write.account else {
            return Err(error);
        };
        let found = match self.by_key(key, name).await {
            Ok(found) => found,
            // An object that does not exist is deleted already.
            Err(gone) if write.kind == ChangeKind::Delete && gone.code == "gone" => {
                return Ok(WrittenAccount::Gone(key.clone(), name.clone()));
            }
            Err(_) => return Err(error),
        };
        let is_called = |other: &str| is_same_dn(&found.name, other);
        if is_called(name) {
            return Err(error);
        }
        let named = write
            .values
            .iter()
            .find(|value| value.attribute.eq_ignore_ascii_case("dn"))
            .and_then(|value| value.after.first());
        if matches!(write.kind, ChangeKind::Rename | ChangeKind::Move)
            && named.is_some_and(|dn| is_called(&dn.to_string()))
        {
            return Ok(WrittenAccount::Keyed(key.clone(), found.name));
        }
        let write = Write {
            account: Some((key.clone(), found.name)),
            ..write.clone()
        };
        send(ldap, self.settings(), known, &write, permit).await
    }

    /// Adds or removes one membership. A result that the group already has the member, or no
    /// longer has it (codes 20 and 16; 68 and 53 of a domain controller, of which the last is
    /// unspecific), counts only after the member was looked up by its current name.
    pub(super) async fn change_member(
        &self,
        ldap: &mut Ldap,
        known: &DirectoryCapabilities,
        write: &Write,
    ) -> Result<(), ConnectError> {
        let Some((_, group)) = &write.account else {
            return Err(ConnectError::permanent(
                "no_account",
                "the change has no group",
                "decide again: start a new run",
            ));
        };
        let wait = dial::timeout_of(self.settings());
        let result = send_modify(
            ldap,
            self.settings(),
            group,
            membership_modifications(&write.values),
        )
        .await?;
        if result.rc == 0 {
            return Ok(());
        }
        let values = self.with_present_name(write).await;
        let left = differs_still(ldap, wait, group, membership_modifications(&values)).await;
        match left {
            Some(left) if left.is_empty() => Ok(()),
            Some(left) if values != write.values || found_otherwise(result.rc, known) => {
                check_result(
                    &send_modify(ldap, self.settings(), group, left).await?,
                    &format!("changing the members of {group}"),
                )
            }
            _ => check_result(&result, &format!("changing the members of {group}")),
        }
    }

    /// The values of a membership with the name that the member has at this moment.
    async fn with_present_name(&self, write: &Write) -> Vec<ValueChange> {
        let mut values = write.values.clone();
        let (Some((key, name)), Some(first)) = (&write.member, values.first_mut()) else {
            return values;
        };
        let named = |value: &Value| {
            matches!(value, Value::Reference(_)) && is_same_dn(&value.to_string(), name)
        };
        if !first.before.iter().chain(&first.after).any(named) {
            return values;
        }
        // A member that no longer exists has no other name.
        let Ok(found) = self.by_key(key, name).await else {
            return values;
        };
        for value in first
            .before
            .iter_mut()
            .chain(&mut first.after)
            .filter(|value| named(value))
        {
            *value = Value::Reference(found.name.clone());
        }
        values
    }
}

fn is_same_dn(one: &str, other: &str) -> bool {
    one == other
        || one
            .parse::<Dn>()
            .ok()
            .zip(other.parse::<Dn>().ok())
            .is_some_and(|(one, other)| one == other)
}

/// Whether a result code means that values exist already, or do not exist (RFC 4511 appendix A; a
/// domain controller has its own codes).
fn found_otherwise(code: u32, known: &DirectoryCapabilities) -> bool {
    matches!(code, 16 | 20) || known.controller && matches!(code, 53 | 68)
}

async fn send_modify(
    ldap: &mut Ldap,
    settings: &LdapSettings,
    name: &str,
    changes: Vec<Mod<Octets>>,
) -> Result<LdapResult, ConnectError> {
    ldap.with_timeout(dial::timeout_of(settings))
        .modify(name, changes)
        .await
        .map_err(|e| write_error(settings, &e, false))
}

/// Whether a value is written by an operation of its own: the name, the state and the container.
fn is_written_apart(value: &ValueChange) -> bool {
    ["dn", "enabled", "container"]
        .iter()
        .any(|name| value.attribute.eq_ignore_ascii_case(name))
}

/// The DN that a write gives its entry.
fn wanted_dn(write: &Write) -> Option<String> {
    write
        .values
        .iter()
        .find(|v| v.attribute.eq_ignore_ascii_case("dn"))
        .and_then(|v| v.after.first())
        .map(Value::to_string)
}

async fn send(
    ldap: &mut Ldap,
    settings: &LdapSettings,
    known: &DirectoryCapabilities,
    write: &Write,
    _permit: &Permit,
) -> Result<WrittenAccount, ConnectError> {
    if write.kind == ChangeKind::Create {
        let dn = create_entry(ldap, settings, known, write).await?;
        return Ok(WrittenAccount::Named(dn));
    }
    let Some((key, name)) = write.account.clone() else {
        return Err(ConnectError::permanent(
            "no_account",
            "the change has no account",
            "decide again: start a new run",
        ));
    };
    match write.kind {
        ChangeKind::Rename | ChangeKind::Move => {
            rename_entry(ldap, settings, write, &name).await?;
        }
        ChangeKind::Delete => {
            let result = ldap
                .with_timeout(dial::timeout_of(settings))
                .delete(&name)
                .await
                .map_err(|e| write_error(settings, &e, false))?;
            check_result(&result, &format!("deleting {name}"))?;
            return Ok(WrittenAccount::Gone(key, name));
        }
        ChangeKind::Enable | ChangeKind::Disable => {
            set_state(ldap, settings, known, write, &name).await?;
        }
        ChangeKind::Grant | ChangeKind::Revoke if write.object == ObjectType::Group => {
            change_members(ldap, settings, write, &name).await?;
        }
        ChangeKind::Password => set_password(ldap, settings, known, &name, &write.values).await?,
        _ => {
            update_entry(ldap, settings, known, write, &name).await?;
        }
    }
    Ok(WrittenAccount::Keyed(key, name))
}

/// Adds an entry.
async fn create_entry(
    ldap: &mut Ldap,
    settings: &LdapSettings,
    known: &DirectoryCapabilities,
    write: &Write,
) -> Result<String, ConnectError> {
    let dn = wanted_dn(write).ok_or_else(|| {
        ConnectError::permanent(
            "no_dn",
            "a new entry needs a DN, and no mapping supplies it",
            "map `dn`, for example: dn = '\"uid=\" + identity.uid + \",ou=people,dc=skerry,dc=example\"'",
        )
    })?;
    let mut attributes: Vec<(Octets, HashSet<Octets>)> = write
        .values
        .iter()
        .filter(|v| !is_written_apart(v))
        .map(|v| {
            (
                v.attribute.clone().into_bytes(),
                set(&v.attribute, &v.after),
            )
        })
        .collect();
    let wants = |state: bool| {
        write
            .values
            .iter()
            .any(|v| v.attribute.eq_ignore_ascii_case("enabled") && v.after == [Value::Bool(state)])
    };
    let disabled = wants(false);
    let password = write
        .values
        .iter()
        .any(|v| v.attribute.eq_ignore_ascii_case("unicodePwd"));
    if wants(true) && password && known.state == State::ControlFlags {
        attributes.push(state_at_creation(known.state, false)?);
    }
    if disabled {
        attributes.push(state_at_creation(known.state, true)?);
    }
    let result = ldap
        .with_timeout(dial::timeout_of(settings))
        .add(&dn, attributes)
        .await
        .map_err(|e| write_error(settings, &e, true))?;
    check_result(&result, &format!("adding {dn}"))?;
    Ok(dn)
}

/// Renames or moves an entry.
async fn rename_entry(
    ldap: &mut Ldap,
    settings: &LdapSettings,
    write: &Write,
    name: &str,
) -> Result<(), ConnectError> {
    let target: Dn = wanted_dn(write)
        .ok_or_else(|| {
            ConnectError::permanent(
                "no_dn",
                format!("the new name of {name} is missing"),
                "map `dn`",
            )
        })?
        .parse()
        .map_err(|error: tide_ldap::DnError| {
            ConnectError::permanent("dn", error.to_string(), "correct the mapping of `dn`")
        })?;
    let rdn = target.rdn_text().unwrap_or_default();
    let parent = target.parent().map(|p| p.to_string());
    let result = ldap
        .with_timeout(dial::timeout_of(settings))
        .modifydn(name, &rdn, true, parent.as_deref())
        .await
        .map_err(|e| write_error(settings, &e, false))?;
    check_result(&result, &format!("renaming {name}"))?;
    Ok(())
}

/// Enables or disables an entry.
async fn set_state(
    ldap: &mut Ldap,
    settings: &LdapSettings,
    known: &DirectoryCapabilities,
    write: &Write,
    name: &str,
) -> Result<(), ConnectError> {
    let disable = write.kind == ChangeKind::Disable;
    let doing = format!("{} {name}", if disable { "disabling" } else { "enabling" });
    if known.state == State::ControlFlags {
        set_flags(ldap, settings, name, &doing, |flags| {
            if disable {
                flags | DISABLED
            } else {
                flags & !DISABLED
            }
        })
        .await?;
    } else {
        let result = send_modify(
            ldap,
            settings,
            name,
            vec![state_change(known.state, disable)?],
        )
        .await?;
        // A lock that does not exist (code 16) is removed already.
        if result.rc != 16 {
            check_result(&result, &doing)?;
        }
    }
    Ok(())
}

/// Adds and removes members of a group.
async fn change_members(
    ldap: &mut Ldap,
    settings: &LdapSettings,
    write: &Write,
    name: &str,
) -> Result<(), ConnectError> {
    let changes = membership_modifications(&write.values);
    let result = send_modify(ldap, settings, name, changes.clone()).await?;
    let is_one = write
        .values
        .iter()
        .map(|value| value.before.len() + value.after.len())
        .sum::<usize>()
        == 1;
    let is_so = is_one
        && result.rc != 0
        && differs_still(ldap, dial::timeout_of(settings), name, changes)
            .await
            .is_some_and(|left| left.is_empty());
    if !is_so {
        check_result(&result, &format!("changing the members of {name}"))?;
    }
    Ok(())
}

/// Writes values of an entry.
async fn update_entry(
    ldap: &mut Ldap,
    settings: &LdapSettings,
    known: &DirectoryCapabilities,
    write: &Write,
    name: &str,
) -> Result<(), ConnectError> {
    let of_name = |value: &&ValueChange| known.controller && names_entry(name, &value.attribute);
    let flags = |value: &&ValueChange| {
        known.state == State::ControlFlags && value.attribute.eq_ignore_ascii_case(CONTROL_FLAGS)
    };
    if let Some(value) = write.values.iter().find(flags)
        && let Some(mapped) = value
            .after
            .first()
            .and_then(|value| value.to_string().parse::<i64>().ok())
    {
        // Only the state attribute says whether the account is usable.
        let doing = format!("changing {name}");
        set_flags(ldap, settings, name, &doing, |now| {
            (mapped & !DISABLED) | (now & DISABLED)
        })
        .await?;
    }
    let values = write
        .values
        .iter()
        .filter(|v| !is_written_apart(v) && !of_name(v) && !flags(v));
    let changes: Vec<Mod<Octets>> = values
        .clone()
        .flat_map(|value| modification(value, write_manner(value, known, &write.merged)))
        .collect();
    if changes.is_empty() {
        return Ok(());
    }
    let mut result = send_modify(ldap, settings, name, changes.clone()).await?;
    if found_otherwise(result.rc, known) {
        match differs_still(ldap, dial::timeout_of(settings), name, changes).await {
            Some(left) if left.is_empty() => return Ok(()),
            Some(left) => result = send_modify(ldap, settings, name, left).await?,
            None => {}
        }
    }
    check_result(&result, &format!("changing {name}"))?;
    Ok(())
}

/// The modifications that still differ, compared one by one; `None` if that cannot be found out,
/// or there are too many.
async fn differs_still(
    ldap: &mut Ldap,
    wait: std::time::Duration,
    name: &str,
    changes: Vec<Mod<Octets>>,
) -> Option<Vec<Mod<Octets>>> {
    let mut left = Vec::new();
    let mut looks = 0;
    for change in changes {
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
            if entry_has_value(ldap, wait, name, text, std::str::from_utf8(value).ok()?).await?
                != wanted
            {
                open.insert(value.clone());
            }
        }
        if !open.is_empty() {
            left.push(if wanted {
                Mod::Add(attribute.clone(), open)
            } else {
                Mod::Delete(attribute.clone(), open)
            });
        }
    }
    Some(left)
}

/// Whether an entry has a value; `None` if it cannot be looked up.
async fn entry_has_value(
    ldap: &mut Ldap,
    wait: std::time::Duration,
    name: &str,
    attribute: &str,
    value: &str,
) -> Option<bool> {
    let filter = tide_ldap::LdapFilter::equal(attribute, value).to_string();
    let found = ldap
        .with_timeout(wait)
        .search(name, ldap3::Scope::Base, &filter, vec!["1.1"])
        .await;
    found
        .and_then(|answer| answer.success())
        .map(|(entries, _)| !entries.is_empty())
        .ok()
}

/// Sets a password: by the extended operation (RFC 3062) if the directory offers it, so that the
/// directory's own policy applies; otherwise as an attribute value.
async fn set_password(
    ldap: &mut Ldap,
    settings: &LdapSettings,
    known: &DirectoryCapabilities,
    name: &str,
    values: &[ValueChange],
) -> Result<(), ConnectError> {
    let wait = dial::timeout_of(settings);
    let must_change = |value: &&ValueChange| value.attribute == tide_core::decide::MUST_CHANGE;
    let Some(new) = values.iter().find(|value| !must_change(value)) else {
        return Ok(());
    };
    let doing = format!("setting the password of {name}");
    // A password that an administrator sets unlocks the account (draft-behera §5.3.3): whom an
    // administrator locked stays so.
    let locked = known.state == State::LockedTime && is_locked(ldap, settings, name).await?;
    // A hash that is carried stays what it is: the operation for passwords would hash it again.
    let carried = matches!(new.after.first(), Some(Value::Bytes(_)));
    if new.attribute.eq_ignore_ascii_case("userPassword") && known.modifies_passwords && !carried {
        let text =
            zeroize::Zeroizing::new(new.after.first().map(Value::to_string).unwrap_or_default());
        let request = PasswordModify {
            user_id: Some(name),
            old_pass: None,
            new_pass: Some(&text),
        };
        let result = ldap
            .with_timeout(wait)
            .extended(request)
            .await
            .map_err(|e| write_error(settings, &e, false))?
            .1;
        check_result(&result, &doing).map_err(refused_password)?;
    } else {
        let result = send_modify(
            ldap,
            settings,
            name,
            modification(new, ValueWriteMode::Replace),
        )
        .await?;
        check_result(&result, &doing).map_err(refused_password)?;
    }
    if locked {
        let result =
            send_modify(ldap, settings, name, vec![state_change(known.state, true)?]).await?;
        check_result(&result, &format!("locking {name} again"))?;
    }
    if values.iter().any(|value| must_change(&value)) {
        let result = ldap
            .with_timeout(wait)
            .modify(name, vec![asks_for_new_password(known.state)])
            .await
            .map_err(|e| write_error(settings, &e, false))?;
        check_result(
            &result,
            &format!("requiring a new password of {name} at the next sign-in"),
        )?;
    }
    Ok(())
}

/// The modification that requires a password change at the next sign-in (draft-behera §5.3.6). A
/// domain controller takes 0 as never set; a directory with `nsAccountLock` manages `pwdReset`
/// itself and has an expiry time for passwords.
fn asks_for_new_password(state: State) -> Mod<Octets> {
    let (attribute, value) = match state {
        State::ControlFlags => ("pwdLastSet", "0"),
        State::Lock => ("passwordExpirationTime", "19700101000000Z"),
        State::LockedTime | State::None => ("pwdReset", "TRUE"),
    };
    Mod::Replace(attribute.into(), HashSet::from([value.into()]))
}

/// A password that the server's policy refuses is nothing that a mapping gave.
fn refused_password(error: ConnectError) -> ConnectError {
    match error.code {
        "value" | "refused" => ConnectError {
            remedy: "choose another password: this one is against the server's policy".into(),
            ..error
        },
        _ => error,
    }
}

/// Did an administrator lock an account?
async fn is_locked(
    ldap: &mut Ldap,
    settings: &LdapSettings,
    name: &str,
) -> Result<bool, ConnectError> {
    let (attributes, filter) = (
        vec!["pwdAccountLockedTime"],
        format!("(pwdAccountLockedTime={LOCKED_FOR_GOOD})"),
    );
    let found = ldap
        .with_timeout(dial::timeout_of(settings))
        .search(name, ldap3::Scope::Base, &filter, attributes)
        .await;
    let found = found.map_err(|e| write_error(settings, &e, false))?;
    check_result(&found.1, &format!("reading the lock state of {name}"))?;
    Ok(!found.0.is_empty())
}

/// The attribute of a domain controller's account flags, and the flag of a disabled account.
const CONTROL_FLAGS: &str = "userAccountControl";
const DISABLED: i64 = 2;
/// The flags of an ordinary account.
const NORMAL: i64 = 512;

/// Whether this attribute names the entry. Only a rename changes it (RFC 4511 §4.9).
fn names_entry(dn: &str, attribute: &str) -> bool {
    let rdn = dn
        .parse::<Dn>()
        .ok()
        .and_then(|dn| dn.rdn_text())
        .unwrap_or_default();
    rdn.split('+')
        .filter_map(|part| part.split_once('='))
        .any(|(name, _)| name.trim().eq_ignore_ascii_case(attribute))
}

/// Changes some account flags of a domain controller and keeps the others: one modify deletes the
/// old value and adds the new one. It fails if the flags changed since they were read, and is then
/// retried.
async fn set_flags(
    ldap: &mut Ldap,
    settings: &LdapSettings,
    name: &str,
    doing: &str,
    change: impl Fn(i64) -> i64,
) -> Result<(), ConnectError> {
    let one = |flags: i64| HashSet::from([flags.to_string().into_bytes()]);
    let flags = || CONTROL_FLAGS.as_bytes().to_vec();
    let mut race = None;
    for _ in 0..RACES {
        let search = ldap.with_timeout(dial::timeout_of(settings)).search(
            name,
            ldap3::Scope::Base,
            "(objectClass=*)",
            vec![CONTROL_FLAGS],
        );
        let found = search.await.map_err(|e| write_error(settings, &e, false))?;
        check_result(&found.1, doing)?;
        let entry = found
            .0
            .into_iter()
            .find(|entry| !entry.is_ref())
            .map(super::entry::open)
            .transpose()?;
        let value = entry.and_then(|entry| {
            let values = entry
                .attrs
                .iter()
                .find(|(name, _)| name.eq_ignore_ascii_case(CONTROL_FLAGS))?
                .1;
            values.first()?.parse::<i64>().ok()
        });
        let Some(before) = value else {
            return Err(ConnectError::permanent(
                "no_state",
                format!(
                    "{doing}: the service account cannot read {CONTROL_FLAGS}, so they cannot be changed safely"
                ),
                format!("give it permission to read {CONTROL_FLAGS}"),
            ));
        };
        let after = change(before);
        if after == before {
            return Ok(());
        }
        let result = send_modify(
            ldap,
            settings,
            name,
            vec![
                Mod::Delete(flags(), one(before)),
                Mod::Add(flags(), one(after)),
            ],
        )
        .await?;
        if result.rc != 16 {
            return check_result(&result, doing);
        }
        race = Some(result);
    }
    race.map_or(Ok(()), |result| check_result(&result, doing))
}

/// The attribute by which an account begins usable or disabled.
fn state_at_creation(
    state: State,
    disabled: bool,
) -> Result<(Octets, HashSet<Octets>), ConnectError> {
    let one = |text: &str| HashSet::from([text.as_bytes().to_vec()]);
    if state == State::ControlFlags {
        let flags = if disabled { NORMAL | DISABLED } else { NORMAL };
        return Ok((CONTROL_FLAGS.as_bytes().to_vec(), one(&flags.to_string())));
    }
    match state_change(state, disabled)? {
        Mod::Replace(name, values) => Ok((name, values)),
        _ => Err(no_state()),
    }
}

fn state_change(state: State, disable: bool) -> Result<Mod<Octets>, ConnectError> {
    let one = |text: &str| HashSet::from([text.as_bytes().to_vec()]);
    Ok(match (state, disable) {
        (State::Lock, true) => Mod::Replace(b"nsAccountLock".to_vec(), one("TRUE")),
        (State::Lock, false) => Mod::Replace(b"nsAccountLock".to_vec(), HashSet::new()),
        (State::LockedTime, true) => {
            Mod::Replace(b"pwdAccountLockedTime".to_vec(), one(LOCKED_FOR_GOOD))
        }
        // Only the administrator's lock: one after too many wrong passwords stays until it passes.
        (State::LockedTime, false) => {
            Mod::Delete(b"pwdAccountLockedTime".to_vec(), one(LOCKED_FOR_GOOD))
        }
        (State::ControlFlags | State::None, _) => return Err(no_state()),
    })
}

fn no_state() -> ConnectError {
    ConnectError::permanent(
        "no_state",
        "this directory has no account state",
        "load its password policy overlay, or map the attribute that your applications use",
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use tide_core::Place;

    fn one(text: &str) -> HashSet<Octets> {
        HashSet::from([text.as_bytes().to_vec()])
    }

    fn change(attribute: &str, before: Vec<Value>, after: Vec<Value>) -> ValueChange {
        ValueChange {
            attribute: attribute.into(),
            before,
            after,
            rule: Place::default(),
            later: Vec::new(),
        }
    }

    #[test]
    fn each_directory_gets_the_operations_that_it_supports() {
        let of = |state, disable| state_change(state, disable).expect("offered");
        let lock = || b"pwdAccountLockedTime".to_vec();
        assert_eq!(
            of(State::LockedTime, true),
            Mod::Replace(lock(), one("000001010000Z"))
        );
        assert_eq!(
            of(State::LockedTime, false),
            Mod::Delete(lock(), one("000001010000Z")),
            "no other lock is lifted"
        );
        assert_eq!(
            of(State::Lock, true),
            Mod::Replace(b"nsAccountLock".to_vec(), one("TRUE"))
        );
        assert_eq!(
            of(State::Lock, false),
            Mod::Replace(b"nsAccountLock".to_vec(), HashSet::new())
        );
        assert_eq!(
            state_at_creation(State::ControlFlags, true)
                .expect("offered")
                .1,
            one("514")
        );
        assert_eq!(
            state_at_creation(State::ControlFlags, false)
                .expect("offered")
                .1,
            one("512")
        );
        assert_eq!(
            state_change(State::None, true)
                .expect_err("not offered")
                .code,
            "no_state"
        );
        assert_eq!(
            asks_for_new_password(State::Lock),
            Mod::Replace(b"passwordExpirationTime".to_vec(), one("19700101000000Z"))
        );
        assert_eq!(
            asks_for_new_password(State::ControlFlags),
            Mod::Replace(b"pwdLastSet".to_vec(), one("0"))
        );
    }

    #[test]
    fn members_are_written_as_differences_and_times_in_the_attributes_own_way() {
        let members = |names: &[&str]| {
            names
                .iter()
                .map(|n| Value::Reference((*n).into()))
                .collect::<Vec<_>>()
        };
        let written = modification(
            &change(
                "member",
                members(&["cn=a", "cn=b"]),
                members(&["cn=b", "cn=c"]),
            ),
            ValueWriteMode::Differences,
        );
        assert_eq!(
            written,
            [
                Mod::Add(b"member".to_vec(), one("cn=c")),
                Mod::Delete(b"member".to_vec(), one("cn=a"))
            ]
        );
        let expires = Value::Time("2025-11-24T11:16:46Z".parse().expect("valid"));
        assert_eq!(octets("accountExpires", &expires), b"134084566060000000");
        let never = modification(
            &change("accountExpires", vec![expires], Vec::new()),
            ValueWriteMode::Replace,
        );
        assert_eq!(
            never,
            [Mod::Replace(b"accountExpires".to_vec(), one("0"))],
            "a domain controller does not let it be deleted"
        );
    }

    #[test]
    fn an_entry_is_named_by_each_part_of_its_rdn() {
        assert!(names_entry("CN=Ada Quay,OU=Deck,DC=e", "cn"));
        assert!(names_entry(
            "cn=Ada+employeeNumber=1,dc=e",
            "employeeNumber"
        ));
        assert!(!names_entry("cn=Ada,ou=Deck,dc=e", "ou"));
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
