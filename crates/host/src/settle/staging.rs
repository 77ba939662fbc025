//! Where new files wait beside the journal until they are put in place.
//!
//! A folder that a change makes waits with everything that comes into it, and is moved as a whole: one move in place of one
//! for each file. Where that cannot be (somebody has made the folder meanwhile, or it lies on another disk), its files are
//! moved one by one from where they wait.

use yalotheca_core::{change::Step, id::TreePath};

use super::{SettleError, damaged, journal::Journal};

/// So many files that are put one by one wait in one folder: in a full one each next file takes longer, and threads wait for one
/// another.
const IN_A_FOLDER: usize = 256;

/// Where the file or the folder of a step waits.
pub(super) fn staged_at(journal: &Journal, index: usize) -> Result<TreePath, SettleError> {
    let Some(whole) = journal.whole(index) else {
        return journal.inner(&format!("staged/{}/{index}", index / IN_A_FOLDER));
    };
    let (outer, own) = (journal.steps()[whole].path(), journal.steps()[index].path());
    let waits = journal.inner(&format!("staged/whole-{whole}"))?;
    own.moved(outer, &waits)
        .ok_or_else(|| damaged(own, &"it does not lie in the folder that is moved with it"))
}

/// Returns the folders in which files are going to wait, outer ones first; of one that is going to be moved, the step that makes
/// it.
pub(super) fn folders(journal: &Journal) -> Result<Vec<(TreePath, Option<usize>)>, SettleError> {
    let (mut folders, mut last) = (Vec::new(), None);
    for (index, step) in journal.steps().iter().enumerate() {
        match (step, journal.whole(index)) {
            (Step::MakeFolder { .. }, Some(_)) => folders.push((staged_at(journal, index)?, Some(index))),
            (Step::Put { .. }, None) if last != Some(index / IN_A_FOLDER) => {
                last = Some(index / IN_A_FOLDER);
                folders.push((journal.inner(&format!("staged/{}", index / IN_A_FOLDER))?, None));
            }
            _ => {}
        }
    }
    Ok(folders)
}

#[cfg(test)]
mod tests {
    use yalotheca_core::{change::Source, id::Digest};

    use super::{super::outermost::OutermostFolders, *};

    fn made(path: &str) -> Step {
        Step::MakeFolder { path: TreePath::new(path).unwrap() }
    }

    fn put(path: &str, before: Option<Digest>) -> Step {
        let source = Source::Payload;
        Step::Put { path: TreePath::new(path).unwrap(), source, before, after: Digest::of(b""), size: 0 }
    }

    #[test]
    fn what_comes_into_a_new_folder_belongs_to_the_outermost_one() {
        let steps = [
            made("mods/bells"),
            made("mods/bells/textures"),
            put("mods/bells/textures/bell.png", None),
            made("mods/bells-more"),
            put("mods/bells-more/init.lua", None),
            put("mods/other/init.lua", None),
            put("order.txt", Some(Digest::of(b"old"))),
            Step::RemoveFolder { path: TreePath::new("gone").unwrap() },
        ];
        let wholes = OutermostFolders::of(&steps);
        let of: Vec<_> = (0..steps.len()).map(|index| wholes.get(index)).collect();
        assert_eq!(of, [Some(0), Some(0), Some(0), Some(3), Some(3), None, None, None]);
    }
}
