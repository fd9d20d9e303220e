//! How the keys of match rules are compared.

use unicode_normalization::UnicodeNormalization;

codes! {
    /// How keys are compared.
    #[derive(Default)]
    pub enum Compare {
        /// As they stand.
        Exact,
        /// Without regard to case and outer blanks.
        #[default]
        Folded,
        /// In plain Latin letters too: accents and scripts make no difference.
        Plain,
        /// As a name: plain, without punctuation, its words in any order.
        Name,
        /// As a telephone number: its digits, with `00` and `+` as one.
        Phone,
        /// As a mail address: folded, without the part after `+` of the local name.
        Mail,
    }
}

impl Compare {
    /// A value as it is compared; nothing when nothing is left of it.
    ///
    /// ```
    /// use tide_core::rules::compare::Compare;
    /// assert_eq!(Compare::Name.key("D’Amberg, Mírön"), Compare::Name.key("miron d'amberg"));
    /// assert_eq!(Compare::Phone.key("+372 555-0101"), Compare::Phone.key("00372 5550101"));
    /// assert_eq!(Compare::Mail.key("Ada.Lind+crew@Skerry.example"), Some("ada.lind@skerry.example".into()));
    /// assert_eq!(Compare::Folded.key("  "), None);
    /// ```
    pub fn key(self, text: &str) -> Option<String> {
        let text = text.trim();
        let plain =
            |text: &str| deunicode::deunicode(&text.nfc().collect::<String>()).to_lowercase();
        let key = match self {
            Compare::Exact => text.to_owned(),
            Compare::Folded => text.to_lowercase(),
            Compare::Plain => plain(text).split_whitespace().collect::<Vec<_>>().join(" "),
            Compare::Name => {
                // An apostrophe binds (D'Amberg), all else parts (Vasko-Lind).
                let kept: String = plain(text)
                    .chars()
                    .filter(|c| !matches!(c, '\'' | '`'))
                    .collect();
                let mut words: Vec<&str> = kept
                    .split(|c: char| !c.is_alphanumeric())
                    .filter(|word| !word.is_empty())
                    .collect();
                words.sort_unstable();
                words.join(" ")
            }
            Compare::Phone => {
                let international = text.starts_with('+') || text.starts_with("00");
                let digits: String = text.chars().filter(char::is_ascii_digit).collect();
                let digits = digits
                    .strip_prefix("00")
                    .filter(|_| international)
                    .unwrap_or(&digits);
                // A short number names an extension, which many houses have.
                if digits.len() < 6 {
                    String::new()
                } else {
                    format!("{}{digits}", if international { "+" } else { "" })
                }
            }
            Compare::Mail => {
                let folded = text.to_lowercase();
                match folded.rsplit_once('@') {
                    Some((local, domain)) => {
                        format!("{}@{domain}", local.split('+').next().unwrap_or(local))
                    }
                    None => folded,
                }
            }
        };
        (!key.is_empty()).then_some(key)
    }
}
