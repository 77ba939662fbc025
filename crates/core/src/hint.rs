//! What a person can do about an error.

/// Errors that know a way out.
pub trait Hint {
    /// Returns one sentence that says what to do next, where there is something to do.
    fn hint(&self) -> Option<String> {
        None
    }
}
