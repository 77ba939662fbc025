use super::*;
use crate::control::AsFound;
use crate::{
    catalogue::{Member, Release},
    game,
    version::ReleaseVersion,
};

fn locked(id: &str, kind: &str, members: &[&str]) -> Locked {
    let mut release = Release::new(ReleaseVersion::parse("1").unwrap(), kind);
    release.members = members
        .iter()
        .map(|name| Member {
            id: ContentId::new(name).unwrap(),
            kind: "mod".into(),
            folder: (*name).into(),
            needs: litemap::LiteMap::new(),
        })
        .collect();
    Locked {
        id: ContentId::new(id).unwrap(),
        title: id.into(),
        catalogue: String::new(),
        off: false,
        release,
        given: None,
        found: AsFound::default(),
    }
}

fn load(name: &str) -> Game {
    let (_, text) = game::BUILT_IN.iter().find(|(known, _)| *known == name).unwrap();
    game::load(name, text).unwrap()
}

fn read<'a>(game: &'a Game, lineup: &[Locked], log: &str) -> LogReader<'a> {
    let mut reader = LogReader::new(game, &Scope::default(), lineup, Some("pier")).unwrap();
    log.lines().for_each(|line| reader.feed(line));
    reader
}

#[test]
fn a_good_start_a_bad_one_and_one_with_trouble() {
    let game = load("saltwick");
    let lineup = [locked("tidebell", "plugin", &[]), locked("gull-chat", "plugin", &[])];
    let good = "[1] info plugin tidebell 1.4.0 loaded\n[1] warn chart 3 has no tide table\n\
                [1] info plugin gull-chat 1.0 loaded\n[1] info harbour open on port 7710";
    assert_eq!(read(&game, &lineup, good).verdict(Some(true)), Verdict::Ready);
    assert_eq!(read(&game, &lineup, good).verdict(Some(false)), Verdict::Failed);

    let trouble = good.replace(
        "info plugin tidebell 1.4.0 loaded",
        "error plugin tidebell: needs harbour-core >=2.1 <3, and none is loaded",
    );
    let reader = read(&game, &lineup, &trouble);
    assert_eq!(reader.verdict(Some(true)), Verdict::ReadyWithTrouble);
    assert_eq!(reader.troubles()[0].says, "tidebell needs harbour-core >=2.1 <3, which is not loaded");
    assert_eq!(reader.troubles()[0].means.as_deref(), Some("missing need"));
    assert!(matches!(reader.contents()["tidebell"], ContentState::Failed { .. }));

    let bad = "[1] error harbour closed: engine 2.4 needs runtime 6, started on 4";
    let reader = read(&game, &lineup, bad);
    assert_eq!(reader.verdict(None), Verdict::Failed);
    assert!(reader.is_fatal() && reader.troubles()[0].advice.as_ref().unwrap().contains("6 in boot.json"));
}

#[test]
fn a_map_that_is_not_played_yet_is_not_expected() {
    let (_, text) = game::BUILT_IN.iter().find(|(known, _)| *known == "teeworlds").unwrap();
    let text = text.replace("[kind.map]", "[kind.map]\nloaded = 'map {{ content.id }} loaded'");
    let game = game::load("arena", &text).unwrap();
    let kind = game.maps.as_ref().unwrap().kind().unwrap().to_owned();
    let lineup = [locked("pier", &kind, &[]), locked("gulls", &kind, &[])];
    let reader = read(&game, &lineup, "ready");
    assert_eq!(reader.contents()["pier"], ContentState::NotSeen { members: Vec::new() });
    assert_eq!(reader.of_brief_log().contents()["pier"], ContentState::Untold);
    let reader = read(&game, &lineup, "ready");
    assert_eq!(reader.contents()["gulls"], ContentState::Untold);
}

#[test]
fn members_of_a_pack_are_watched_one_by_one() {
    let game = load("luanti");
    let lineup = [locked("mesecons", "modpack", &["mesecons", "mesecons_lamp"]), locked("a", "mod", &[])];
    let reader = read(
        &game,
        &lineup,
        "INFO[Main]: Mod \"a\" loaded after 0 ms\nINFO[Main]: Mod \"mesecons\" loaded after 9 ms\n",
    );
    let lamp = ContentId::new("mesecons_lamp").unwrap();
    assert_eq!(reader.contents()["mesecons"], ContentState::NotSeen { members: vec![lamp] });
    assert_eq!(reader.contents()["a"], ContentState::Loaded);
    let log = "ERROR[Main]: mod \"mesecons_lamp\" has unsatisfied dependencies:  \"dye\"";
    let reader = read(&game, &lineup, log);
    assert!(
        matches!(&reader.contents()["mesecons"], ContentState::Failed { why } if why == "mesecons_lamp: needs dye, which is not enabled here")
    );
    assert_eq!(reader.troubles()[0].says, "mesecons_lamp needs dye, which is not enabled here");
}

#[test]
fn the_same_line_again_and_again_is_counted() {
    let game = load("saltwick");
    let log = "[1] error harbour closed: fog\n".repeat(3)
        + "[1] info still here\n"
        + &"[1] error harbour closed: fog\n".repeat(2);
    let reader = read(&game, &[], &log);
    assert_eq!((reader.troubles().len(), reader.troubles()[0].times), (1, 5));
    let known = KnownLines::default();
    let times: Vec<usize> = reader.lines().compare(&known).new.iter().map(|new| new.times).collect();
    assert_eq!(times, [5, 1]);
}
