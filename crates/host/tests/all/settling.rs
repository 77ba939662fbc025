//! Settling on its own: staging, recovery, taking back, history.

use std::{fs, path::Path, sync::Arc};

use yalotheca_core::{
    change::{ChangeSet, Receipt, Source, Step},
    id::{Digest, TreePath},
};
use yalotheca_host::{
    settle::{self, ChangeOrigin, ControlTexts, Outcome, SealKey, SettleError, SettleOrder},
    sources::{ByteSource, Sources},
    tree::{LocalTree, Tree},
};

use crate::Done;

pub(crate) fn path(text: &str) -> TreePath {
    TreePath::new(text).unwrap_or_else(|_| TreePath::root())
}

pub(crate) fn origin(command: &str) -> ChangeOrigin {
    ChangeOrigin {
        command: command.into(),
        who: "wren@quay".into(),
        when: "2026-07-01T10:00:00Z".into(),
        summary: "a test".into(),
        undoes: None,
    }
}

pub(crate) fn text_step(name: &str, before: Option<&str>, after: &str) -> Step {
    Step::Put {
        path: path(name),
        source: Source::Text(after.into()),
        before: before.map(|text| Digest::of(text.as_bytes())),
        after: Digest::of(after.as_bytes()),
        size: after.len() as u64,
    }
}

pub(crate) fn payload_step(name: &str, bytes: &[u8]) -> Step {
    let size = bytes.len() as u64;
    Step::Put { path: path(name), source: Source::Payload, before: None, after: Digest::of(bytes), size }
}

/// Where the bytes "payload" are said to lie.
pub(crate) fn source(at: &Path) -> Sources {
    Sources::from_iter([(Digest::of(b"payload"), ByteSource::File(at.to_owned()))])
}

/// The key of the tests' administrator; it lies nowhere near a server.
pub(crate) fn key() -> Result<SealKey, std::io::Error> {
    SealKey::in_folder(&std::env::temp_dir().join(format!("yalotheca-tests-{}", std::process::id())))
}

pub(crate) fn carry_out(
    folder: &Path,
    steps: Vec<Step>,
    sources: &Sources,
) -> Result<u32, Box<dyn std::error::Error>> {
    Ok(carry_out_on(&LocalTree::new(folder), steps, sources)??)
}

pub(crate) fn carry_out_on(
    tree: &LocalTree,
    steps: Vec<Step>,
    sources: &Sources,
) -> Result<Result<u32, SettleError>, Box<dyn std::error::Error>> {
    let (_, receipt_digest) = settle::read_receipt(tree)?;
    let change = ChangeSet { steps, receipt: Receipt::empty(), ..ChangeSet::default() };
    let now = |name: &str| fs::read_to_string(tree.root().join(name)).ok();
    let order = SettleOrder {
        change: &change,
        receipt_digest,
        before: ControlTexts { wants: now("yalotheca.toml"), lock: now("yalotheca.lock") },
        after: ControlTexts { wants: Some("wants".into()), lock: Some("lock".into()) },
        control: tree.root().to_owned(),
        origin: origin("yalotheca settle"),
        key: &key()?,
    };
    Ok(settle::settle(tree, &order, sources))
}

fn recover(tree: &LocalTree) -> Result<Option<Outcome>, Box<dyn std::error::Error>> {
    Ok(settle::recover(tree, tree.root(), &key()?, false)?)
}

#[test]
fn steps_are_done_and_kept() -> Done {
    let folder = tempfile::tempdir()?;
    fs::write(folder.path().join("order.txt"), "old")?;
    fs::write(folder.path().join("goes"), "going")?;
    fs::write(folder.path().join("download"), "payload")?;
    let sources = source(&folder.path().join("download"));
    let steps = vec![
        Step::MakeFolder { path: path("plugins") },
        payload_step("plugins/a.swp", b"payload"),
        text_step("order.txt", Some("old"), "new"),
        Step::SetAside { path: path("goes"), before: Digest::of(b"going") },
    ];
    assert_eq!(carry_out(folder.path(), steps, &sources)?, 1);
    let read = |name: &str| fs::read_to_string(folder.path().join(name));
    assert_eq!(read("plugins/a.swp")?, "payload");
    assert_eq!(read("order.txt")?, "new");
    assert!(read("goes").is_err());
    assert_eq!(read("yalotheca.toml")?, "wants");
    assert_eq!(read("yalotheca.lock")?, "lock");
    assert_eq!(read(".yalotheca/journal/0001/attic/2")?, "old");
    assert_eq!(read(".yalotheca/journal/0001/attic/3")?, "going");
    assert_eq!(read(".yalotheca/journal/0001/state")?, "done");
    assert!(!folder.path().join(".yalotheca/journal/0001/staged").exists());
    assert!(recover(&LocalTree::new(folder.path()))?.is_none());
    Ok(())
}

#[test]
fn what_cannot_be_had_changes_nothing() -> Done {
    let folder = tempfile::tempdir()?;
    fs::write(folder.path().join("other"), "other bytes")?;
    let none = Sources::default();
    let wrong = source(&folder.path().join("other"));
    let gone = source(&folder.path().join("gone"));
    for (sources, said) in [(&none, "nowhere to be had"), (&wrong, "was promised"), (&gone, "No such file")] {
        let steps = vec![text_step("order.txt", None, "new"), payload_step("a.swp", b"payload")];
        let error = carry_out(folder.path(), steps, sources).err().ok_or("it cannot be had")?;
        assert!(error.to_string().contains(said), "{error}");
        assert!(!folder.path().join("order.txt").exists() && !folder.path().join("yalotheca.toml").exists());
    }
    let tree = LocalTree::new(folder.path());
    assert!(settle::history(&tree)?.is_empty() && recover(&tree)?.is_none());
    Ok(())
}

#[test]
fn a_file_that_changed_meanwhile_stops_the_settle() -> Done {
    let folder = tempfile::tempdir()?;
    fs::write(folder.path().join("order.txt"), "somebody was here")?;
    let error =
        carry_out(folder.path(), vec![text_step("order.txt", Some("old"), "new")], &Sources::default());
    assert!(error.is_err_and(|error| error.to_string().contains("order.txt was changed by somebody else")));
    assert_eq!(fs::read_to_string(folder.path().join("order.txt"))?, "somebody was here");
    Ok(())
}

#[test]
fn a_step_that_fails_takes_the_others_back() -> Done {
    let folder = tempfile::tempdir()?;
    fs::write(folder.path().join("order.txt"), "old")?;
    fs::write(folder.path().join("aside"), "aside")?;
    fs::create_dir_all(folder.path().join("blocked/inside"))?;
    let steps = vec![
        Step::MakeFolder { path: path("made") },
        text_step("made/new.txt", None, "new"),
        text_step("order.txt", Some("old"), "new"),
        Step::SetAside { path: path("aside"), before: Digest::of(b"aside") },
        text_step("blocked", None, "a folder stands here"),
    ];
    assert!(carry_out(folder.path(), steps, &Sources::default()).is_err());
    assert_eq!(fs::read_to_string(folder.path().join("order.txt"))?, "old");
    assert_eq!(fs::read_to_string(folder.path().join("aside"))?, "aside");
    assert!(!folder.path().join("made").exists());
    assert!(recover(&LocalTree::new(folder.path()))?.is_none());
    Ok(())
}

pub(crate) type Steps = (Vec<Step>, Sources);

/// A new folder with files in it, one of them deeper, and its sources.
pub(crate) fn bells(folder: &Path) -> Result<Steps, Box<dyn std::error::Error>> {
    let sources = [b"ring", b"rope"].map(|bytes| (Digest::of(bytes), folder.join(Digest::of(bytes).short())));
    for ((_, at), bytes) in sources.iter().zip([b"ring", b"rope"]) {
        fs::write(at, bytes)?;
    }
    let steps = vec![
        Step::MakeFolder { path: path("mods/bells") },
        Step::MakeFolder { path: path("mods/bells/deep") },
        payload_step("mods/bells/ring.lua", b"ring"),
        payload_step("mods/bells/deep/rope.lua", b"rope"),
    ];
    Ok((steps, sources.into_iter().map(|(digest, at)| (digest, ByteSource::File(at))).collect()))
}

#[test]
fn a_new_folder_is_put_with_all_that_comes_into_it_and_goes_with_it() -> Done {
    let (folder, files) = (tempfile::tempdir()?, tempfile::tempdir()?);
    fs::create_dir_all(folder.path().join("mods"))?;
    let (mut steps, sources) = bells(files.path())?;
    carry_out(folder.path(), steps.clone(), &sources)?;
    let bells = folder.path().join("mods/bells");
    assert_eq!(fs::read_to_string(bells.join("ring.lua"))?, "ring");
    assert_eq!(fs::read_to_string(bells.join("deep/rope.lua"))?, "rope");
    assert!(!folder.path().join(".yalotheca/journal/0001/staged").exists());
    // A later step that fails takes the whole folder back.
    fs::remove_dir_all(&bells)?;
    fs::create_dir_all(folder.path().join("blocked/inside"))?;
    steps.push(text_step("blocked", None, "a folder stands here"));
    assert!(carry_out(folder.path(), steps, &sources).is_err());
    assert!(!bells.exists());
    assert!(recover(&LocalTree::new(folder.path()))?.is_none());
    Ok(())
}

#[test]
fn what_somebody_puts_meanwhile_into_a_folder_that_was_to_be_new_stays() -> Done {
    let (folder, files) = (tempfile::tempdir()?, tempfile::tempdir()?);
    fs::create_dir_all(folder.path().join("mods"))?;
    let (steps, sources) = bells(files.path())?;
    carry_out(folder.path(), steps, &sources)?;
    // As it is when the program dies before it moves the folder.
    let (bells, journal) = (folder.path().join("mods/bells"), folder.path().join(".yalotheca/journal/0001"));
    fs::create_dir_all(journal.join("staged"))?;
    fs::rename(&bells, journal.join("staged/whole-0"))?;
    fs::write(journal.join("state"), "staged")?;
    fs::create_dir_all(&bells)?;
    fs::write(bells.join("notes.txt"), "somebody's")?;
    fs::write(bells.join("ring.lua"), "somebody's ring")?;
    let outcome = recover(&LocalTree::new(folder.path()))?.ok_or("something was interrupted")?;
    assert!(matches!(outcome, Outcome::Finished(_)));
    assert_eq!(fs::read_to_string(bells.join("notes.txt"))?, "somebody's");
    assert_eq!(fs::read_to_string(bells.join("ring.lua"))?, "ring");
    assert_eq!(fs::read_to_string(bells.join("deep/rope.lua"))?, "rope");
    assert_eq!(fs::read_to_string(journal.join("attic/2"))?, "somebody's ring");
    Ok(())
}

#[test]
fn a_plan_from_before_folders_were_moved_whole_is_finished_as_it_was_begun() -> Done {
    let (folder, files) = (tempfile::tempdir()?, tempfile::tempdir()?);
    let (steps, sources) = bells(files.path())?;
    carry_out(folder.path(), steps, &sources)?;
    let (bells, journal) = (folder.path().join("mods/bells"), folder.path().join(".yalotheca/journal/0001"));
    fs::create_dir_all(journal.join("staged/0"))?;
    fs::rename(bells.join("ring.lua"), journal.join("staged/0/2"))?;
    fs::rename(bells.join("deep/rope.lua"), journal.join("staged/0/3"))?;
    fs::remove_dir_all(&bells)?;
    fs::write(journal.join("state"), "staged")?;
    let plan = fs::read_to_string(journal.join("plan.json"))?;
    assert!(plan.contains("\"format\":4"), "{plan}");
    fs::write(journal.join("plan.json"), plan.replace("\"format\":4", "\"format\":1"))?;
    // In that format receipts and control files lay in the journal.
    fs::remove_file(journal.join("records.json"))?;
    for (when, wants) in [("before", None), ("after", Some("wants"))] {
        fs::create_dir(journal.join(when))?;
        fs::write(journal.join(when).join("receipt.json"), Receipt::empty().text())?;
        wants.map_or(Ok(()), |wants| fs::write(journal.join(when).join("yalotheca.toml"), wants))?;
    }
    let tree = LocalTree::new(folder.path());
    assert!(recover(&tree).is_err(), "what was altered is not obeyed without being asked about");
    settle::recover(&tree, folder.path(), &key()?, true)?.ok_or("something was interrupted")?;
    assert_eq!(fs::read_to_string(bells.join("ring.lua"))?, "ring");
    assert_eq!(fs::read_to_string(bells.join("deep/rope.lua"))?, "rope");
    Ok(())
}

#[test]
fn an_interrupted_settle_is_finished_or_taken_back_by_its_state() -> Done {
    for (state, finished) in [("planned", false), ("staged", true)] {
        let folder = tempfile::tempdir()?;
        let tree = LocalTree::new(folder.path());
        carry_out(folder.path(), vec![text_step("order.txt", None, "new")], &Sources::default())?;
        // As it is when the program dies after staging, or before it is complete.
        let journal = folder.path().join(".yalotheca/journal/0001");
        fs::create_dir_all(journal.join("staged/0"))?;
        fs::rename(folder.path().join("order.txt"), journal.join("staged/0/0"))?;
        fs::remove_file(folder.path().join("yalotheca.toml"))?;
        fs::write(journal.join("state"), state)?;
        let outcome = recover(&tree)?.ok_or("something was interrupted")?;
        assert_eq!(matches!(outcome, Outcome::Finished(_)), finished, "{outcome:?}");
        assert_eq!(folder.path().join("order.txt").exists(), finished);
        assert_eq!(folder.path().join("yalotheca.toml").exists(), finished);
        assert_eq!(settle::history(&tree)?.len(), usize::from(finished));
        assert!(recover(&tree)?.is_none(), "once is enough");
    }
    Ok(())
}

#[test]
fn a_journal_without_a_plan_is_forgotten_and_a_damaged_one_is_told() -> Done {
    let folder = tempfile::tempdir()?;
    let tree = LocalTree::new(folder.path());
    let journal = folder.path().join(".yalotheca/journal/0001");
    fs::create_dir_all(journal.join("before"))?;
    assert!(recover(&tree)?.is_none());
    assert!(!journal.exists());
    fs::create_dir_all(&journal)?;
    fs::write(journal.join("plan.json"), "{oops")?;
    let error = recover(&tree).err().ok_or("it is damaged")?;
    assert!(error.to_string().contains("journal/0001/plan.json"), "{error}");
    Ok(())
}

#[test]
fn records_are_shared_by_changes_and_go_with_the_last_one_that_names_them() -> Done {
    let folder = tempfile::tempdir()?;
    let tree = LocalTree::new(folder.path());
    let records = || -> Result<Vec<String>, std::io::Error> {
        let names = fs::read_dir(folder.path().join(".yalotheca/records"))?;
        names.map(|entry| Ok(entry?.file_name().to_string_lossy().into_owned())).collect()
    };
    carry_out(folder.path(), vec![text_step("a", None, "1")], &Sources::default())?;
    let first = records()?;
    carry_out(folder.path(), vec![text_step("b", None, "2")], &Sources::default())?;
    let mut second = records()?;
    assert!(second.len() <= first.len() + 1, "{first:?} {second:?}");
    // A text of its own goes with the change that it belongs to.
    fs::write(folder.path().join(".yalotheca/records/stray.zst"), "x")?;
    let keep = settle::Retention { changes: 1, age: std::time::Duration::ZERO, bytes: u64::MAX };
    fs::File::open(folder.path().join(".yalotheca/journal/0001/state"))?
        .set_modified(std::time::SystemTime::UNIX_EPOCH)?;
    assert_eq!(settle::sweep(&tree, keep)?, 1);
    let left = records()?;
    assert!(!left.contains(&"stray.zst".to_owned()) && !left.is_empty(), "{left:?}");
    second.retain(|name| left.contains(name));
    assert_eq!(second.len(), left.len());
    settle::read_settle(&tree, 2, Some(&key()?))?;
    // A modified record is reported.
    let name = left.iter().find(|name| name.contains(".zst")).ok_or("control files are recorded")?;
    let path = folder.path().join(".yalotheca/records").join(name);
    fs::write(&path, "other")?;
    let error = settle::read_settle(&tree, 2, None).err().ok_or("it was modified")?;
    assert!(error.to_string().contains(name.as_str()), "{error}");
    // The next change that needs it writes it again.
    carry_out(folder.path(), vec![text_step("c", None, "3")], &Sources::default())?;
    settle::read_settle(&tree, 3, Some(&key()?))?;
    Ok(())
}

#[test]
fn a_receipt_of_the_first_format_is_read_and_comes_back_with_undo() -> Done {
    let folder = tempfile::tempdir()?;
    let tree = LocalTree::new(folder.path());
    let mut old = Receipt::empty();
    old.folders.insert(path("plugins"));
    old.created.insert(path("order.txt"), "# order\n".into());
    fs::create_dir(folder.path().join(".yalotheca"))?;
    fs::write(folder.path().join(".yalotheca/receipt.json"), old.text())?;
    assert_eq!(settle::read_receipt(&tree)?.0, old);
    carry_out(folder.path(), vec![text_step("a", None, "1")], &Sources::default())?;
    let text = fs::read_to_string(folder.path().join(".yalotheca/receipt.json"))?;
    assert!(text.contains("\"format\": 2"), "{text}");
    assert_eq!(settle::read_settle(&tree, 1, Some(&key()?))?.1, old);
    Ok(())
}

#[test]
fn history_is_numbered_and_knows_what_was_undone() -> Done {
    let folder = tempfile::tempdir()?;
    let tree = LocalTree::new(folder.path());
    carry_out(folder.path(), vec![text_step("a", None, "1")], &Sources::default())?;
    carry_out(folder.path(), vec![text_step("b", None, "2")], &Sources::default())?;
    let numbers: Vec<(u32, bool)> =
        settle::history(&tree)?.iter().map(|past| (past.number, past.undone)).collect();
    assert_eq!(numbers, [(1, false), (2, false)]);
    let (steps, receipt, before, after) = settle::read_settle(&tree, 2, Some(&key()?))?;
    assert_eq!((steps.len(), receipt), (1, Receipt::empty()));
    assert_eq!((before.wants.as_deref(), after.wants.as_deref()), (Some("wants"), Some("wants")));
    assert_eq!(settle::read_settle(&tree, 1, None)?.2.wants, None);
    assert!(settle::read_settle(&tree, 9, None).is_err());
    Ok(())
}

#[test]
fn a_server_is_claimed_by_one_at_a_time() -> Done {
    let folder = tempfile::tempdir()?;
    let tree: Arc<dyn Tree> = Arc::new(LocalTree::new(folder.path()));
    let claim = settle::claim(&tree)?;
    let refused = settle::claim(&tree).err().ok_or("it is claimed")?;
    assert!(refused.to_string().contains(&format!("process {}", std::process::id())), "{refused}");
    drop(claim);
    settle::claim(&tree)?;
    Ok(())
}

#[test]
fn a_receipt_that_cannot_be_read_is_told() -> Done {
    let folder = tempfile::tempdir()?;
    let tree = LocalTree::new(folder.path());
    assert_eq!(settle::read_receipt(&tree)?.0, Receipt::empty());
    settle::write_receipt(&tree, &Receipt::empty())?;
    assert_eq!(settle::read_receipt(&tree)?.0, Receipt::empty());
    fs::write(folder.path().join(".yalotheca/receipt.json"), "{\"format\": 1, \"colour\": 2}")?;
    let error = settle::read_receipt(&tree).err().ok_or("an unknown key")?;
    assert!(error.to_string().contains("unknown field `colour`"), "{error}");
    Ok(())
}

/// A server on which a settle was carried out that put two files into a new folder and wrote one of its own.
fn put_bells(folder: &Path, files: &Path) -> Result<LocalTree, Box<dyn std::error::Error>> {
    fs::create_dir_all(folder.join("mods"))?;
    fs::write(folder.join("order.txt"), "old")?;
    let (mut steps, sources) = bells(files)?;
    steps.push(text_step("order.txt", Some("old"), "new"));
    carry_out(folder, steps, &sources)?;
    Ok(LocalTree::new(folder))
}

#[test]
fn a_large_settle_notes_that_nobody_has_waited_for_the_disk() -> Done {
    let (folder, files) = (tempfile::tempdir()?, tempfile::tempdir()?);
    let size = 65 << 20;
    let bytes = vec![7; usize::try_from(size)?];
    let at = files.path().join("large");
    fs::write(&at, &bytes)?;
    let digest = Digest::of(&bytes);
    let large =
        Step::Put { path: path("large.bin"), source: Source::Payload, before: None, after: digest, size };
    carry_out(folder.path(), vec![large], &Sources::from_iter([(digest, ByteSource::File(at))]))?;
    let note = folder.path().join(".yalotheca/journal/0001/unwritten");
    let boot = fs::read_to_string("/proc/sys/kernel/random/boot_id")?;
    assert_eq!(fs::read_to_string(&note)?, boot.trim());
    assert!(recover(&LocalTree::new(folder.path()))?.is_none(), "it is still the same run");
    // The next settle waits for it, and has nothing to note itself.
    carry_out(folder.path(), vec![text_step("small.txt", None, "new")], &Sources::default())?;
    assert_eq!(fs::read_to_string(&note)?, "");
    assert!(!folder.path().join(".yalotheca/journal/0002/unwritten").exists());
    Ok(())
}

#[test]
fn what_was_damaged_when_the_machine_went_down_after_a_settle_is_told_once() -> Done {
    let (folder, files) = (tempfile::tempdir()?, tempfile::tempdir()?);
    let tree = put_bells(folder.path(), files.path())?;
    let note = folder.path().join(".yalotheca/journal/0001/unwritten");
    let ring = folder.path().join("mods/bells/ring.lua");
    fs::write(&ring, "ri")?;
    fs::remove_file(folder.path().join("mods/bells/deep/rope.lua"))?;
    fs::write(folder.path().join("order.txt"), "the server wrote this")?;
    let boot = fs::read_to_string("/proc/sys/kernel/random/boot_id")?;
    fs::write(&note, boot.trim())?;
    assert!(recover(&tree)?.is_none(), "in the same run it is somebody's doing, and for check to tell");
    fs::write(&note, "another run")?;
    let outcome = recover(&tree)?.ok_or("files are damaged")?;
    assert!(matches!(&outcome, Outcome::Damaged(_, files) if files.len() == 2), "{outcome:?}");
    assert!(recover(&tree)?.is_none(), "once is enough");
    assert_eq!(fs::read_to_string(folder.path().join("order.txt"))?, "the server wrote this");
    Ok(())
}

#[test]
fn a_settle_in_which_the_machine_went_down_is_finished_where_all_is_whole_and_else_taken_back() -> Done {
    for (is_whole, is_moved) in [(true, false), (false, false), (true, true), (false, true)] {
        let (folder, files) = (tempfile::tempdir()?, tempfile::tempdir()?);
        let tree = put_bells(folder.path(), files.path())?;
        let (bells, journal) =
            (folder.path().join("mods/bells"), folder.path().join(".yalotheca/journal/0001"));
        if !is_whole {
            fs::write(bells.join("deep/rope.lua"), "")?;
        }
        if !is_moved {
            fs::create_dir_all(journal.join("staged"))?;
            fs::rename(&bells, journal.join("staged/whole-0"))?;
        }
        fs::write(journal.join("state"), "staged")?;
        fs::write(journal.join("unwritten"), "another run")?;
        if !is_whole {
            // Interrupted a second time while it is taken back: what stood in the way of that is gone now.
            let records = journal.join("records.json");
            fs::rename(&records, journal.join("away"))?;
            assert!(recover(&tree).is_err());
            fs::rename(journal.join("away"), &records)?;
        }
        let outcome = recover(&tree)?.ok_or("it was interrupted")?;
        assert!(
            matches!((&outcome, is_whole), (Outcome::Finished(_), true) | (Outcome::Lost(_), false)),
            "{outcome:?}"
        );
        assert_eq!(bells.exists(), is_whole);
        let order = fs::read_to_string(folder.path().join("order.txt"))?;
        assert_eq!(order, if is_whole { "new" } else { "old" });
        assert_eq!(folder.path().join("yalotheca.lock").exists(), is_whole);
        assert_eq!(settle::history(&tree)?.len(), usize::from(is_whole));
        assert!(recover(&tree)?.is_none() && !journal.join("staged").exists());
    }
    Ok(())
}

/// A server with everything that a change may touch, and the steps that touch it.
fn lived_in(folder: &Path, files: &Path) -> Result<Steps, Box<dyn std::error::Error>> {
    fs::create_dir_all(folder.join("mods/old"))?;
    fs::create_dir_all(folder.join("goes/deeper"))?;
    for (name, text) in
        [("order.txt", "old"), ("mods/old/a.lua", "one"), ("mods/old/b.lua", "two"), ("goes/x", "x")]
    {
        fs::write(folder.join(name), text)?;
    }
    let (mut steps, mut sources) = bells(files)?;
    let newer = files.join("newer");
    fs::write(&newer, "newer")?;
    sources.insert(Digest::of(b"newer"), ByteSource::File(newer));
    steps.extend([
        Step::Put {
            path: path("mods/old/a.lua"),
            source: Source::Payload,
            before: Some(Digest::of(b"one")),
            after: Digest::of(b"newer"),
            size: 5,
        },
        text_step("order.txt", Some("old"), "new"),
        text_step("mods/made.txt", None, "made"),
        Step::SetAside { path: path("mods/old/b.lua"), before: Digest::of(b"two") },
        Step::SetAside { path: path("goes/x"), before: Digest::of(b"x") },
        Step::RemoveFolder { path: path("goes/deeper") },
    ]);
    Ok((steps, sources))
}

/// The entries of a folder, with what each file holds.
type Entries = Vec<(String, Option<String>)>;

/// Everything in a folder but Yalotheca's own, with what each file holds.
fn everything(folder: &Path) -> Result<Entries, Box<dyn std::error::Error>> {
    let mut all = Vec::new();
    for entry in walkdir::WalkDir::new(folder).sort_by_file_name() {
        let entry = entry?;
        let name = entry.path().strip_prefix(folder)?.to_string_lossy().into_owned();
        if !name.starts_with(".yalotheca/") && name != ".yalotheca" {
            let text =
                if entry.file_type().is_file() { Some(fs::read_to_string(entry.path())?) } else { None };
            all.push((name, text));
        }
    }
    Ok(all)
}

/// What a server is before a change and after it, and a fresh one.
fn worlds(elsewhere: Option<&Path>) -> Result<[Entries; 2], Box<dyn std::error::Error>> {
    let (folder, files) = (server_folder(elsewhere)?, tempfile::tempdir()?);
    let (steps, sources) = lived_in(folder.path(), files.path())?;
    let before = everything(folder.path())?;
    carry_out(folder.path(), steps, &sources)?;
    Ok([before, everything(folder.path())?])
}

/// A server's folder; `mods` lies on another disk where one is given.
fn server_folder(elsewhere: Option<&Path>) -> Result<tempfile::TempDir, Box<dyn std::error::Error>> {
    let folder = tempfile::tempdir()?;
    if let Some(disk) = elsewhere {
        let there = disk.join(folder.path().file_name().ok_or("it has a name")?);
        fs::create_dir_all(&there)?;
        fs::create_dir(folder.path().join("mods"))?;
        let bound = std::process::Command::new("mount")
            .arg("--bind")
            .arg(&there)
            .arg(folder.path().join("mods"))
            .status()?;
        if !bound.success() {
            return Err("mounting a folder".into());
        }
    }
    Ok(folder)
}

fn leave(folder: &Path, elsewhere: Option<&Path>) -> Done {
    if elsewhere.is_some() {
        std::process::Command::new("umount").arg(folder.join("mods")).status()?;
    }
    Ok(())
}

/// Which call fails, and from which on the program is gone.
#[derive(Debug, Clone, Copy)]
struct At {
    fails: u64,
    dies: u64,
}

const NEVER: u64 = u64::MAX;

/// A settle of which a call fails or at which the program dies, then recoveries of which the same is true, then one that is left
/// alone. Returns how many calls the first one made, and whether the server is as after it.
fn one_run(
    at: &[At],
    elsewhere: Option<&Path>,
    worlds: &[Entries; 2],
) -> Result<(u64, bool), Box<dyn std::error::Error>> {
    let (folder, files) = (server_folder(elsewhere)?, tempfile::tempdir()?);
    let (steps, sources) = lived_in(folder.path(), files.path())?;
    let root = folder.path();
    let tree = LocalTree::new(root).failing_at(at[0].fails, at[0].dies);
    let settled = carry_out_on(&tree, steps, &sources).is_ok_and(|settled| settled.is_ok());
    if tree.calls() < at[0].dies {
        // The program has gone on: what it said must be so.
        let said = &worlds[usize::from(settled)];
        assert_eq!(&everything(root)?, said, "{at:?}: it said {}", if settled { "done" } else { "failed" });
    }
    for one in at.iter().skip(1) {
        recover(&LocalTree::new(root).failing_at(one.fails, one.dies)).ok();
    }
    recover(&LocalTree::new(root)).map_err(|error| format!("{at:?}: {error}"))?;
    let after = everything(root)?;
    let Some(which) = worlds.iter().position(|world| *world == after) else {
        let new = |one: &&(String, Option<String>)| !worlds[0].contains(one) || !worlds[1].contains(one);
        let differs: Vec<_> = after.iter().filter(new).collect();
        return Err(format!("{at:?}: neither before nor after: {differs:?}").into());
    };
    assert!(recover(&LocalTree::new(root))?.is_none(), "{at:?}: once is enough");
    assert!(which == 1 || !settled, "{at:?}: it said done, and everything was taken back");
    leave(root, elsewhere)?;
    Ok((tree.calls(), which == 1))
}

/// Each call of a settle fails or is the last one, and so do calls of taking it back and of recovering it after that.
fn at_each_call(elsewhere: Option<&Path>) -> Result<usize, Box<dyn std::error::Error>> {
    let worlds = worlds(elsewhere)?;
    let (calls, _) = one_run(&[At { fails: NEVER, dies: NEVER }], elsewhere, &worlds)?;
    assert!(calls > 40, "only {calls} calls");
    let mut runs = 0;
    let mut seen = [false; 2];
    let mut run = |at: &[At]| -> Result<u64, Box<dyn std::error::Error>> {
        let (calls, done) = one_run(at, elsewhere, &worlds)?;
        seen[usize::from(done)] = true;
        runs += 1;
        Ok(calls)
    };
    for call in 1..=calls {
        run(&[At { fails: NEVER, dies: call }])?;
        let all = run(&[At { fails: call, dies: NEVER }])?;
        // It fails, and the program dies while that is taken back; and once more while that is recovered.
        for dies in (call + 1)..=all {
            run(&[At { fails: call, dies }])?;
            if (call + dies) % 4 == 0 {
                run(&[At { fails: call, dies }, At { fails: NEVER, dies: 1 + dies % 13 }])?;
                run(&[At { fails: call, dies }, At { fails: 1 + dies % 11, dies: NEVER }])?;
            }
        }
        // It dies, and recovering it fails or dies at every call.
        for again in 1..=25 {
            if (call + again) % 3 == 0 {
                run(&[At { fails: NEVER, dies: call }, At { fails: NEVER, dies: again }])?;
                run(&[At { fails: NEVER, dies: call }, At { fails: again, dies: again + 1 + call % 9 }])?;
            }
        }
    }
    assert_eq!(seen, [true, true], "both outcomes must have been seen");
    Ok(runs)
}

#[test]
fn whatever_call_fails_or_is_the_last_the_server_is_as_before_or_as_after() -> Done {
    let runs = at_each_call(None)?;
    assert!(runs > 1_000, "{runs}");
    Ok(())
}

#[test]
fn so_it_is_where_a_part_of_the_server_lies_on_another_disk() -> Done {
    let disk = Path::new("/dev/shm");
    let may = disk.is_dir() && is_root();
    let Some(there) = may.then(|| tempfile::tempdir_in(disk)).transpose()? else {
        return crate::skipped("a second disk that may be mounted");
    };
    let probe = server_folder(Some(there.path()));
    let Ok(probe) = probe else { return crate::skipped("a second disk that may be mounted") };
    leave(probe.path(), Some(there.path()))?;
    let runs = at_each_call(Some(there.path()))?;
    assert!(runs > 1_000, "{runs}");
    Ok(())
}

fn is_root() -> bool {
    std::process::Command::new("id").arg("-u").output().is_ok_and(|output| output.stdout == b"0\n")
}
