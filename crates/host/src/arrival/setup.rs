//! An archive or a folder that is a whole server's folder, as somebody packed it: its contents are found like any others;
//! its settings go along, and its worlds, logs and start scripts do not.

use globset::GlobBuilder;
use yalotheca_core::{
    game::{DescribeError, Game, Template},
    id::{ParseIdError, TreePath},
    route::LeftOut,
};

use super::{ArrivalError, Locate, Looking, Once, source_at};
use crate::survey::{self, Protected};

impl Looking<'_> {
    /// Where it is a whole server's folder, its configuration goes along, and its worlds do not. Returns the
    /// archives that are still to be opened.
    pub(super) fn setup(
        &mut self,
        inner: Vec<String>,
        paths: &[&str],
        place: Locate<'_>,
    ) -> Result<Vec<String>, ArrivalError> {
        let Some(root) = setup_root(self.game, paths) else { return Ok(inner) };
        let failed = |why: String| ArrivalError::Describe {
            path: "the setup".into(),
            source: DescribeError { file: root.clone(), why },
        };
        let scope = survey::default_scope(self.game);
        let protected = survey::protected(self.game, &scope).map_err(|error| failed(error.to_string()))?;
        self.arrival.is_setup = true;
        let rest: Vec<String> = self.arrival.unrouted.drain(..).chain(inner).collect();
        for path in rest {
            let own =
                if root.is_empty() { Some(path.as_str()) } else { path.strip_prefix(&format!("{root}/")) };
            let Some(own) = own else {
                self.arrival.unrouted.push(path);
                continue;
            };
            let once = self.once((&path, own), &protected, place);
            self.arrival.once.extend(once.map_err(|error| failed(error.to_string()))?);
        }
        Ok(Vec::new())
    }

    /// Returns a file that is put where there is none yet, at its `own` path; one of a world or a save is left out.
    pub(super) fn once(
        &mut self,
        (path, own): (&str, &str),
        protected: &Protected,
        place: Locate<'_>,
    ) -> Result<Option<Once>, ParseIdError> {
        if protected.is_match(own) {
            let why = "of a world, a save or a log; yours stays".into();
            self.arrival.left_out.push(LeftOut { path: path.to_owned(), why });
            return Ok(None);
        }
        let to = TreePath::new(own)?;
        Ok(place(path).map(|(size, digest, at)| {
            let source = source_at(self.store, &digest, at);
            Once { to, size, digest, source }
        }))
    }
}

/// Returns the folder in what came that is a whole server's folder, if there is one: the top, or the wrapper around all.
fn setup_root(game: &Game, paths: &[&str]) -> Option<String> {
    let scope = survey::default_scope(game);
    let wrapper = paths.first().and_then(|path| path.split_once('/')).map(|(top, _)| top);
    let wrapper = wrapper
        .filter(|top| paths.iter().all(|path| path.split_once('/').is_some_and(|(own, _)| own == *top)));
    let is_one = |root: &str| {
        let there = |template: &Template| {
            let Ok(pattern) = template.render(&scope) else { return false };
            let prefix = if root.is_empty() { String::new() } else { format!("{root}/") };
            let glob = GlobBuilder::new(&pattern)
                .literal_separator(true)
                .build()
                .ok()
                .map(|glob| glob.compile_matcher());
            paths.iter().filter_map(|path| path.strip_prefix(&prefix)).any(|path| {
                let is_in =
                    path.strip_prefix(&pattern).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'));
                is_in || glob.as_ref().is_some_and(|glob| glob.is_match(path))
            })
        };
        let any = &game.recognise_any;
        !(game.recognise_all.is_empty() && any.is_empty())
            && game.recognise_all.iter().all(there)
            && (any.is_empty() || any.iter().any(there))
    };
    [Some(""), wrapper].into_iter().flatten().find(|root| is_one(root)).map(str::to_owned)
}
