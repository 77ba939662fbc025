use std::{fs, path::Path};

use super::{Closed, Log, contents, files, range::holds, settings::top_keys};
use crate::quayside;

fn log_of(folder: &Path, act: impl FnOnce(&mut Log)) -> String {
    let mut log = Log::open(folder);
    act(&mut log);
    fs::read_to_string(folder.join("logs/latest.log")).unwrap()
}

#[test]
fn ranges_of_the_manual() {
    assert!(holds(">=2.2 <3", "2.4") && !holds(">=2.2 <3", "3.0") && !holds(">=2.2 <3", "2.1"));
    assert!(holds("*", "1") && holds("", "1") && holds("1.0", "1.0.0"));
}

#[test]
fn plugins_load_in_order_and_bad_ones_are_skipped() {
    let folder = tempfile::tempdir().unwrap();
    quayside::write_left_behind_server(folder.path(), 1).unwrap();
    let log = log_of(folder.path(), |log| drop(contents::load_plugins(folder.path(), "2.4", log)));
    assert!(log.contains("error plugin night-lamps: needs lamp-oil >=1, and none is loaded"), "{log}");
    assert!(
        log.contains("order.txt names gull-chat, and there is no such plugin"),
        "a sub-folder is not seen: {log}"
    );
    let (name, bytes) = quayside::release("lamp-oil", "1.0.2").unwrap();
    fs::write(folder.path().join("plugins").join(name), bytes).unwrap();
    let log = log_of(folder.path(), |log| drop(contents::load_plugins(folder.path(), "2.4", log)));
    assert!(
        log.contains("needs lamp-oil >=1, and it loads later"),
        "those not in the order load last: {log}"
    );
    fs::write(folder.path().join("plugins/order.txt"), "lamp-oil\nnight-lamps\n").unwrap();
    let log = log_of(folder.path(), |log| drop(contents::load_plugins(folder.path(), "2.4", log)));
    assert!(log.contains("info plugin night-lamps 1.2.0 loaded"), "{log}");
    let settings = folder.path().join("plugins/night-lamps/settings.yml");
    fs::write(&settings, "dusk: 19\nmoths: 3\n").unwrap();
    let log = log_of(folder.path(), |log| drop(contents::load_plugins(folder.path(), "2.4", log)));
    assert!(log.contains("unknown key moths"), "{log}");
    fs::write(&settings, "dusk: 19\ncolours: [amber\n").unwrap();
    let log = log_of(folder.path(), |log| drop(contents::load_plugins(folder.path(), "2.4", log)));
    assert!(log.contains("not valid YAML at line"), "{log}");
}

#[test]
fn engine_runtime_terms_and_conf() {
    let folder = tempfile::tempdir().unwrap();
    quayside::write_fresh_server(folder.path(), 7710).unwrap();
    assert_eq!(files::boot(folder.path()).unwrap_or_else(|_| panic!("good")).runtime, 6);
    let boot = folder.path().join("boot.json");
    fs::write(&boot, r#"{"engine": "saltwick-2.4.swe", "runtime": 4}"#).unwrap();
    assert_eq!(
        files::boot(folder.path()).err(),
        Some(Closed("engine 2.4 needs runtime 6, started on 4".into()))
    );
    fs::write(&boot, r#"{"engine": "gone.swe", "runtime": 4}"#).unwrap();
    assert_eq!(files::boot(folder.path()).err(), Some(Closed("no engine file gone.swe".into())));
    assert!(files::terms(folder.path()).is_ok());
    fs::remove_file(folder.path().join("terms.txt")).unwrap();
    assert!(files::terms(folder.path()).is_err());
    assert_eq!(fs::read_to_string(folder.path().join("terms.txt")).unwrap(), "terms = undecided\n");
    files::conf(folder.path()).unwrap_or_else(|_| panic!("good"));
    let text = fs::read_to_string(folder.path().join("saltwick.conf")).unwrap();
    assert!(text.starts_with("# Larkspur") && text.ends_with("look.must = no\n"), "{text}");
    fs::write(folder.path().join("saltwick.conf"), "port 7710\n").unwrap();
    assert_eq!(
        files::conf(folder.path()).err(),
        Some(Closed("saltwick.conf line 1 is not key = value".into()))
    );
}

#[test]
fn data_packs_by_name_and_format() {
    let folder = tempfile::tempdir().unwrap();
    let town = folder.path().join("towns/brinewick");
    fs::create_dir_all(town.join("packs")).unwrap();
    for version in ["1.1", "2.0"] {
        let (name, bytes) = quayside::release("evening-tide", version).unwrap();
        fs::write(town.join("packs").join(name), bytes).unwrap();
        fs::write(town.join("packs.json"), "[\"evening-tide\", \"ghost\"]").unwrap();
        let log = log_of(folder.path(), |log| contents::load_data_packs(&town, "2.4", log));
        let good = log.contains("info data pack evening-tide enabled");
        assert_eq!(good, version == "1.1", "{log}");
        assert!(log.contains("data pack ghost: there is no such pack"), "{log}");
    }
}

#[test]
fn top_level_keys() {
    let keys = top_keys("a: 1\nb:\n  c: 2\nd: [x, y]\n").unwrap();
    assert_eq!(keys.into_iter().collect::<Vec<_>>(), ["a", "b", "d"]);
    assert!(top_keys("a: [1\n").is_err());
}
