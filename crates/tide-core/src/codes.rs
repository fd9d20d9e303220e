//! Enums of codes, shared by records, rules, the API and the client.

/// A text that is no code of an enum: another version of the program wrote it.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{code}` is no code of {enumeration}")]
pub struct UnknownCode {
    /// The enum.
    pub enumeration: &'static str,
    /// The text.
    pub code: String,
}

/// Declares an enum whose variants are codes.
///
/// Each variant has one code, its name in snake_case. The same code stands in records, in rule
/// files, in the API and in the client's JSON; it is never shown to people without a label. `ALL`
/// lists the variants as declared, `as_str` gives the code, `parse` reads it.
macro_rules! codes {
    ($(#[$meta:meta])* $vis:vis enum $name:ident { $($body:tt)* }) => {
        $(#[$meta])*
        #[derive(
            Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize,
            strum::Display, strum::EnumString, strum::IntoStaticStr, strum::VariantArray, utoipa::ToSchema,
        )]
        #[serde(rename_all = "snake_case")]
        #[strum(serialize_all = "snake_case")]
        $vis enum $name { $($body)* }

        impl $name {
            /// All of them, as declared.
            pub const ALL: &'static [Self] = <Self as strum::VariantArray>::VARIANTS;

            /// The code.
            pub fn as_str(self) -> &'static str {
                self.into()
            }

            /// Reads a code.
            pub fn parse(code: &str) -> Option<Self> {
                code.parse().ok()
            }
        }

        impl TryFrom<String> for $name {
            type Error = $crate::UnknownCode;

            fn try_from(code: String) -> Result<Self, $crate::UnknownCode> {
                code.parse().map_err(|_| $crate::UnknownCode {
                    enumeration: stringify!($name),
                    code,
                })
            }
        }
    };
}
