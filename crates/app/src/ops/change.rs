//! What a changing use case asks for: other wants, and how they are carried out.

use yalotheca_core::control::ControlFile;

use crate::{
    AppError, Fresh, Server,
    apply::{Along, note},
};

/// A change that was asked for. It is planned by [`prepare`](crate::apply::prepare), or only noted.
#[derive(Debug)]
pub struct Change {
    /// What is wanted then.
    pub wants: ControlFile,
    /// What may become newer.
    pub fresh: Fresh,
    /// What accompanies it.
    pub along: Along,
    /// What was asked for, in words, where it is only noted.
    pub asked: Vec<String>,
}

impl Change {
    /// Returns a change to these wants and nothing else.
    pub(crate) fn to(wants: ControlFile) -> Self {
        Self { wants, fresh: Fresh::None, along: Along::default(), asked: Vec::new() }
    }

    /// Only writes it down; the next settle does it.
    ///
    /// # Errors
    /// Where the control files cannot be written.
    pub fn note(&self, server: &Server, summary: &str) -> Result<(), AppError> {
        note(server, &self.wants, (None, summary))
    }
}
