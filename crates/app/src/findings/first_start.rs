//! What a server's first start makes, as long as it has not been.

use yalotheca_core::{check::Finding, hint::Advice, id::TreePath};
use yalotheca_host::survey::SurveyError;

use crate::{AppError, Server};

/// Files and folders that are to be made by the server's first start.
pub(super) struct FirstStart {
    makes: Vec<TreePath>,
}

impl FirstStart {
    /// Looks whether the first start is still to come.
    pub(super) fn of(server: &Server) -> Result<Self, AppError> {
        let mut makes = Vec::new();
        for template in &server.game.run.first_makes {
            let path = template.render(&server.survey.scope).map_err(SurveyError::Render)?;
            let path = TreePath::new(&path)?;
            if server.tree.kind_of(&path)?.is_some() {
                return Ok(Self { makes: Vec::new() });
            }
            makes.push(path);
        }
        Ok(Self { makes })
    }

    /// Returns whether the first start makes what is named so: a path, or the end of one.
    pub(super) fn will_make(&self, name: &str) -> bool {
        let end = format!("/{name}");
        self.makes.iter().any(|path| path.as_str() == name || path.as_str().ends_with(&end))
    }

    /// Says that it is still to come, if so.
    pub(super) fn note(&self) -> Option<Finding> {
        let first = self.makes.first()?;
        let makes: Vec<&str> = self.makes.iter().map(TreePath::as_str).collect();
        let says = format!("the server has not been started yet; its first start makes {}", makes.join(", "));
        Some(Finding::note("first-start", first.as_str(), says, Some(Advice::StartOnce)))
    }
}
