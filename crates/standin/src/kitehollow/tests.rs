use std::fs;

use super::*;

#[test]
fn maps_are_looked_at_as_the_manual_says() {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir_all(folder.path().join("maps")).unwrap();
    let whole = maps::build("gull_cliffs", 4096);
    let put = |name: &str, bytes: &[u8]| fs::write(folder.path().join("maps").join(name), bytes).unwrap();
    put("gull_cliffs.kmap", &whole);
    put("gull_cliffs.brief", b"Cliffs at dawn\nsky: dusk_harbour\n");
    put("short.kmap", &whole[..1036]);
    put("zipped.kmap", b"PK\x03\x04");
    let mut wrong = whole.clone();
    wrong[20] ^= 1;
    put("wrong.kmap", &wrong);
    let map = maps::load(folder.path(), "gull_cliffs").ok().unwrap();
    assert_eq!((map.bytes, map.has_lanes, map.sky.as_str()), (4112, false, "dusk_harbour"));
    let why = |name: &str| maps::load(folder.path(), name).err().unwrap();
    assert_eq!(why("short"), "truncated (payload 1024 of 4096)");
    assert_eq!(why("zipped"), "not a map");
    assert!(why("wrong").starts_with("damaged"));
    assert_eq!([why("gone"), why("../x")], [maps::MISSING, maps::MISSING]);
}

#[test]
fn of_a_doubled_setting_the_last_one_counts() {
    let folder = tempfile::tempdir().unwrap();
    let text = "// ours\nstart_map \"a\"\nfetch_from \"http://x/\" // where\nstart_map \"b\"\nfetch_cap_mb 8 // MB\n";
    fs::write(folder.path().join("host.cfg"), text).unwrap();
    let config = Config::read(folder.path()).ok().unwrap();
    assert_eq!(
        [config.get("start_map"), config.get("fetch_from"), config.get("fetch_cap_mb")],
        ["b", "http://x/", "8"]
    );
}
