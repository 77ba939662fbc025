//! What a changing use case asks for: other wants, and how they are carried out.

use yalotheca_core::control::ControlFile;

use crate::{
    AppError, Fresh, Server,
    apply::{ChangeExtras, note, noted},
};

/// A change that was asked for. It is planned by [`prepare`](crate::apply::prepare), or only noted.
#[derive(Debug)]
pub struct Change {
    /// What is wanted then.
    pub wants: ControlFile,
    /// What may become newer.
    pub fresh: Fresh,
    /// What accompanies it.
    pub extras: ChangeExtras,
}

impl Change {
    /// Returns a change to these wants. `asked` says in words what was asked for.
    pub(crate) fn to(wants: ControlFile, asked: Vec<String>) -> Self {
        Self { wants, fresh: Fresh::None, extras: ChangeExtras { asked, ..ChangeExtras::default() } }
    }

    /// Only writes it down; the next settle does it.
    ///
    /// # Errors
    /// Where the control files cannot be written.
    pub fn note(&self, server: &Server) -> Result<(), AppError> {
        note(server, &self.wants, (None, &noted(&self.extras.asked)))
    }
}
