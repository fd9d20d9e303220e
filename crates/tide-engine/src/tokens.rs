//! New tokens.

/// A new token. It is shown only here.
pub struct IssuedToken {
    /// Its id.
    pub id: String,
    /// The token itself.
    pub token: String,
}

/// A token of 256 random bits.
pub fn new_token() -> String {
    hex::encode(rand::random::<[u8; 32]>())
}
