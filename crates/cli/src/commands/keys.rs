//! `keys`.

use std::{collections::BTreeMap, process::ExitCode};

use yalotheca_app::{
    AppError, Purpose, Server,
    ops::keys::{KeyRole, KeysReport, PartLine, keys},
    reading::Reading,
};
use yalotheca_core::id::ContentId;
use yalotheca_host::signatures::SignatureState;

use crate::{
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, count},
};

impl View for KeysReport {
    fn view(&self, page: &mut Page) {
        let bad =
            self.parts.iter().filter(|part| !matches!(part.signature, SignatureState::Accepted(_))).count();
        let looked = count(self.parts.len(), "part");
        if bad == 0 {
            page.line(
                Role::Good,
                &format!("{}: every part is signed by a key that is here ({looked}).", self.server),
            );
        } else {
            let says = format!("{}: players would be turned away because of {bad} of {looked}", self.server);
            page.line(Role::Bad, &says);
        }
        let mut by_content: BTreeMap<&ContentId, Vec<&PartLine>> = BTreeMap::new();
        for part in &self.parts {
            by_content.entry(&part.content).or_default().push(part);
        }
        if !by_content.is_empty() {
            page.head("Contents");
            let mut rows = Vec::new();
            for (content, parts) in by_content {
                rows.extend(rows_of(content, &parts));
            }
            page.table(&rows);
        }
        page.head("Keys");
        let row = |key: &yalotheca_app::ops::keys::KeyLine| {
            let signs: Vec<&str> = key.signs.iter().map(ContentId::as_str).collect();
            let (role, says) = match key.role {
                KeyRole::OfTheGame => (Role::Dim, "the game's own; it stays".to_owned()),
                KeyRole::Used => (Role::Plain, format!("signs {}", signs.join(", "))),
                KeyRole::Orphaned => (Role::Warn, "signs nothing that is on".to_owned()),
                KeyRole::Doubled => (Role::Bad, "another file of that name holds another key".to_owned()),
                KeyRole::Broken => (Role::Bad, "holds no key".to_owned()),
            };
            let fingerprint = key.fingerprint.clone().unwrap_or_default();
            vec![
                Cell::new(Role::Name, key.path.to_string()),
                Cell::new(Role::Dim, fingerprint),
                Cell::new(role, says),
            ]
        };
        page.table(&self.keys.iter().map(row).collect::<Vec<_>>());
    }
}

/// Parts of a content that are signed alike stand together.
fn rows_of(content: &ContentId, parts: &[&PartLine]) -> Vec<Vec<Cell>> {
    let mut groups: BTreeMap<(&SignatureState, bool), Vec<&str>> = BTreeMap::new();
    for part in parts {
        groups.entry((&part.signature, part.edited)).or_default().push(part.path.name());
    }
    let row = |((state, edited), names): ((&SignatureState, bool), Vec<&str>)| {
        let (role, says) = match state {
            SignatureState::Accepted(key) => (Role::Good, format!("signed by {key}")),
            SignatureState::NotVerified(key) => {
                (Role::Bad, format!("signed by {key}, but cannot be read now"))
            }
            SignatureState::KeyMissing(key) => (Role::Bad, format!("signed by {key}, whose key is not here")),
            SignatureState::Wrong(key) if edited => (Role::Bad, format!("changed since {key} signed it")),
            SignatureState::Wrong(key) => (Role::Bad, format!("the signature by {key} is wrong")),
            SignatureState::Unsigned => (Role::Bad, "not signed".to_owned()),
        };
        let which = if names.len() > 3 { count(names.len(), "part") } else { names.join(", ") };
        vec![Cell::new(Role::Name, content.to_string()), Cell::plain(which), Cell::new(role, says)]
    };
    groups.into_iter().map(row).collect()
}

pub(crate) fn run(global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let Some(report) = keys(&server, Reading::Files)? else {
        return Err(AppError::Usage {
            what: format!("a {} has no signed parts, as far as its definition says", server.game.title),
            hint: None,
        });
    };
    let is_bad = report.parts.iter().any(|part| !matches!(part.signature, SignatureState::Accepted(_)))
        || report.keys.iter().any(|key| matches!(key.role, KeyRole::Doubled | KeyRole::Broken));
    ui.show(&report)?;
    Ok(if is_bad { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}
