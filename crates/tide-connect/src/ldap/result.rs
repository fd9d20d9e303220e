//! Errors and remedies for the result codes of a directory.

use crate::ConnectError;
use ldap3::LdapResult;

/// The text of a result in parentheses, if it has one.
fn detail(result: &LdapResult) -> String {
    match result.text.trim() {
        "" => String::new(),
        text => format!(" ({text})"),
    }
}

/// Turns a result code into an error (RFC 4511 appendix A).
pub(super) fn check_result(result: &LdapResult, doing: &str) -> Result<(), ConnectError> {
    let text = detail(result);
    Err(match result.rc {
        0 => return Ok(()),
        32 => ConnectError::permanent(
            "no_such_object",
            format!("{doing}: the entry does not exist{text}"),
            if result.matched.is_empty() {
                "check the name".to_owned()
            } else {
                format!(
                    "check the name; the nearest entry that exists is {}",
                    result.matched
                )
            },
        ),
        50 => ConnectError::permanent(
            "rights",
            format!("{doing}: the service account may not do this{text}"),
            "give the service account the permission, or remove this from the rules",
        ),
        51 | 52 => ConnectError::transient(
            "busy",
            format!("{doing}: the server is busy{text}"),
            "retried automatically",
        ),
        4 | 11 => ConnectError::transient(
            "size_limit",
            format!(
                "{doing}: the server returned a part only, because of the size limit of the service account (code {}){text}",
                result.rc
            ),
            "remove the size limit of the service account (also for paged results), or use smaller pages",
        ),
        3 => ConnectError::transient(
            "time_limit",
            format!("{doing}: the server's time limit was reached (code 3){text}"),
            "raise the time limit of the service account, or use smaller pages",
        ),
        68 => ConnectError::permanent(
            "exists",
            format!("{doing}: an entry with this name or with a unique value exists{text}"),
            "if it is the same person, correct the match rules; otherwise use another value: a generated attribute finds a free one",
        ),
        8 | 13 => ConnectError::permanent(
            "tls_needed",
            format!("{doing}: the server requires an encrypted connection for this{text}"),
            "use ldaps:// or StartTLS for this system",
        ),
        19 | 21 => ConnectError::permanent(
            "value",
            format!("{doing}: the server refuses a value{text}"),
            "correct the mapping of the attribute, or the other entry with this value",
        ),
        17 | 65 => ConnectError::permanent(
            "schema",
            format!("{doing}: the server's schema does not allow this{text}"),
            "correct the mapping: object classes and attributes must fit",
        ),
        10 => ConnectError::permanent(
            "referral",
            format!(
                "{doing}: the server refers to another server{}{text}",
                result
                    .refs
                    .first()
                    .map(|r| format!(" ({r})"))
                    .unwrap_or_default()
            ),
            "connect to the server that holds the entries",
        ),
        code => ConnectError::permanent(
            "refused",
            format!("{doing}: the server answered code {code}{text}"),
            "see RFC 4511, appendix A, for the code",
        ),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::FailureClass;

    #[test]
    fn each_code_has_its_own_meaning() {
        let of = |rc| {
            let result = LdapResult {
                rc,
                matched: String::new(),
                text: "refused".into(),
                refs: Vec::new(),
                ctrls: Vec::new(),
            };
            check_result(&result, "writing").map_err(|error| (error.code, error.class))
        };
        assert_eq!(of(0), Ok(()));
        for rc in [8, 13] {
            assert_eq!(
                of(rc),
                Err(("tls_needed", FailureClass::Permanent)),
                "also if it is requested after the bind"
            );
        }
        for rc in [4, 11] {
            assert_eq!(of(rc), Err(("size_limit", FailureClass::Transient)));
        }
        assert_eq!(of(3), Err(("time_limit", FailureClass::Transient)));
        assert_eq!(of(19), Err(("value", FailureClass::Permanent)));
        assert_eq!(of(50), Err(("rights", FailureClass::Permanent)));
        assert_eq!(of(68), Err(("exists", FailureClass::Permanent)));
    }
}
