//! What is accepted when a definition is loaded does not fail later for a reason that lies in the definition.

use std::{collections::BTreeMap, fmt::Write};

use proptest::{prelude::*, sample::select};
use yalotheca_core::{
    catalogue::{Member, Release},
    change::{PlanChangeError, Present, Receipt, Settled, plan},
    control::{AsFound, Locked, MapsSection},
    desire::{Asked, LineupEntry, desire},
    diagnose::LogReader,
    game::{Agree, BUILT_IN, ConfigPlace, Game, Scope, Template, load},
    id::{ContentId, Digest, TreePath},
    rehearse::rehearse,
    route::{Payload, PayloadFile},
    settings::Settings,
    version::ReleaseVersion,
};

/// What templates name; not all of it is known everywhere.
const NAMES: &[&str] = &[
    "plain",
    "{{ values.town }}",
    "{{ values.town }}/{{ content.id }}",
    "{{ content.id }}",
    "{{ content.file }}",
    "{{ content.title }}",
    "{{ content.kind }}",
    "{{ release.version }}",
    "{{ member.id }}",
    "{{ member.folder }}",
    "{{ folder }}",
    "{{ who }}",
    "{{ name }}",
    "{{ values.nothing }}",
    "{{ content.id | upper }}",
    "{{ content.id[99] }}",
    "{{ values.town.part }}",
    "{{ content }}",
    "{% if content.id %}x{% endif %}",
    "../{{ content.id }}",
];
const FILES: &[&str] =
    &["a.conf", "a.json", "a.txt", "a.yml", "a.ini", "a.xml", "a.args", "a.cfg", "a.def", "a.tbl", "a.toml"];
const FORMS: &[&str] =
    &["", "", "", ", as = \"ini\"", ", as = \"lines\"", ", as = \"json\"", ", as = \"keywords\""];
const POINTERS: &[&str] = &["", "/x", "/x/y", "/x/-", "/0"];

/// Mostly what is known where a content is at hand.
fn text() -> impl Strategy<Value = &'static str> {
    let good =
        vec!["plain", "{{ content.id }}", "{{ values.town }}", "{{ content.id }}-{{ release.version }}"];
    prop_oneof![12 => select(good), 1 => select(NAMES)]
}

/// Mostly names that exist without a content.
fn server_text() -> impl Strategy<Value = &'static str> {
    prop_oneof![12 => select(vec!["plain", "{{ values.town }}", "{{ folder }}"]), 1 => select(NAMES)]
}

/// A place: its file, and the pointer, mostly with a template behind it.
fn place_with(
    text: impl Strategy<Value = &'static str> + Clone,
) -> impl Strategy<Value = (String, &'static str)> {
    let good = select(vec!["a.conf#/x", "b.json#/x/y", "c.yml#/x", "d.ini#/s/x", "e.cfg#/x", "f.toml#/x/y"]);
    let good = (good, prop_oneof![2 => Just(""), 1 => text.clone()])
        .prop_map(|(at, more)| (format!("{at}-{more}"), ""));
    let lists =
        select(vec![("g.txt#", ""), ("h.list#", ""), ("i.args#/name", ""), ("j.data#", ", as = \"lines\"")])
            .prop_map(|(at, form)| (at.to_owned(), form));
    let file = prop_oneof![4 => select(FILES).prop_map(str::to_owned), 1 => text.clone().prop_map(|text| format!("{text}/a.conf"))];
    let pointer = prop_oneof![2 => Just(String::new()), 2 => text.prop_map(|text| format!("/{text}"))];
    let wild = (file, select(POINTERS), pointer, select(FORMS))
        .prop_map(|(file, at, more, form)| (format!("{file}#{at}{more}"), form));
    prop_oneof![8 => good, 2 => lists, 2 => wild]
}

fn place() -> impl Strategy<Value = (String, &'static str)> {
    place_with(text().boxed())
}

fn server_place() -> impl Strategy<Value = (String, &'static str)> {
    place_with(server_text().boxed())
}

fn register() -> impl Strategy<Value = String> {
    let set =
        (place(), text()).prop_map(|((at, form), to)| format!("{{ set = \"{at}\"{form}, to = \"{to}\" }}"));
    let number_set = place().prop_map(|(at, form)| format!("{{ set = \"{at}\"{form}, to = 3 }}"));
    let row = (place(), text()).prop_map(|((at, form), to)| {
        format!("{{ row = \"{at}\"{form}, value = {{ w = 1, n = \"{to}\" }} }}")
    });
    let list = (
        place(),
        text(),
        any::<bool>(),
        select(vec!["", ", separator = \" \"", ", separator = \", \"", ", last = \"end\""]),
    )
        .prop_map(|((at, form), item, ordered, more)| {
            format!("{{ list = \"{at}\"{form}, item = \"{item}\", ordered = {ordered}{more} }}")
        });
    let number = (place(), text(), any::<bool>()).prop_map(|((at, form), item, consecutive)| {
        format!("{{ number = \"{at}\"{form}, item = \"{item}\", consecutive = {consecutive} }}")
    });
    let block = (select(FILES), text(), select(FORMS))
        .prop_map(|(file, text, form)| format!("{{ block = \"{file}\"{form}, text = \"{text}\" }}"));
    let each = select(vec!["", "", "", "", "", "", ", each = \"part\""]);
    let create = prop_oneof![5 => Just(String::new()), 1 => server_text().prop_map(|text| format!(", create = \"{text}\""))];
    (prop_oneof![3 => set, 1 => number_set, 1 => row, 4 => list, 2 => number, 2 => block], each, create)
        .prop_map(|(rule, each, create)| format!("{}{each}{create} }}", rule.trim_end_matches(" }")))
}

fn definition() -> impl Strategy<Value = String> {
    let shape = select(vec!["folder", "archive", "file"]);
    let rules = prop::collection::vec(register(), 0..3);
    let settings = prop::option::of((place(), text()));
    let logs = (prop::option::of(text()), prop::option::of(text()));
    let maps = prop::option::of((server_place(), server_place()));
    let more = (
        prop::option::of(server_text()),
        prop::option::of((server_place(), server_text())),
        server_text(),
        prop_oneof![3 => Just("{{ who }} fails"), 1 => select(NAMES)],
    );
    (shape, text(), rules, settings, logs, maps, more).prop_map(
        |(shape, into, rules, settings, (loaded, failed), maps, (never, agree, argument, say))| {
            let mut out = String::from(
                "format = 1\nname = \"quay\"\ntitle = \"Quay\"\n[values]\ntown = { default = \"b\" }\n[recognise]\nall = [\"quay.conf\"]\n",
            );
            let mut put = |text: String| writeln!(out, "{text}").unwrap_or_default();
            put(format!("[run]\ncommand = [\"quay\", \"{argument}\"]\nstop = \"TERM\"\nready = \"open\""));
            put(format!("[[symptom]]\nmatch = \"(?<who>x)\"\nmeans = \"m\"\nsay = \"{say}\""));
            if let Some(never) = never {
                put(format!("[never-touch]\npaths = [\"{never}\"]"));
            }
            if let Some(((at, form), say)) = agree {
                put(format!("[[agree]]\nvalue = \"{at}\"\nsay = \"{say}\"{}", form.replace(", ", "\n")));
            }
            put("[kind.part]\nshape = \"folder\"\nmarker = \"part.x\"\nplace = [{ into = \"parts/{{ content.id }}/\" }]".to_owned());
            let marker = if shape == "file" { "suffix = \".x\"" } else { "marker = \"mod.x\"" };
            put(format!("[kind.mod]\nshape = \"{shape}\"\n{marker}\nplace = [{{ into = \"mods/{into}/\" }}]"));
            if shape == "folder" {
                put("members = [\"part\"]".into());
            }
            if !rules.is_empty() {
                put(format!("register = [{}]", rules.join(", ")));
            }
            if let Some(text) = loaded {
                put(format!("loaded = '{text}'"));
            }
            if let Some(text) = failed {
                put(format!("failed = '{text}(?<why>.*)'"));
            }
            if let Some(((at, form), short)) = settings {
                let file = at.split('#').next().unwrap_or_default();
                put(format!("settings = [{{ file = \"{file}\"{form}, short = \"{short}\", open = true }}]"));
            }
            if let Some(((play, form), (rotate, other))) = maps {
                put(format!(
                    "[maps]\nkind = \"mod\"\nplay = {{ at = \"{play}\"{form} }}\nrotate = {{ at = \"{rotate}\"{other} }}"
                ));
            }
            out
        },
    )
}

fn content(game: &Game) -> (Locked, Payload) {
    let mut release = Release::new(ReleaseVersion::parse("1.4").expect("a plain text"), "mod");
    if !game.kinds["mod"].members.is_empty() {
        let member = |id: &str| Member {
            id: ContentId::new(id).expect("a plain text"),
            kind: "part".into(),
            folder: id.into(),
            needs: litemap::LiteMap::new(),
        };
        release.members = vec![member("lamp"), member("rope")];
    }
    let locked = Locked {
        id: ContentId::new("pier").expect("a plain text"),
        title: "Pier".into(),
        catalogue: String::new(),
        off: false,
        release,
        given: None,
        found: AsFound::default(),
    };
    let file = PayloadFile { path: "pier.x".into(), size: 3, digest: Digest::of(b"abc"), to: None };
    (locked, Payload { files: vec![file] })
}

/// Everything that is done with a definition later; what fails in it for a reason of its own.
fn use_it(game: &Game) -> Result<(), String> {
    let scope = Scope {
        folder: "/srv/quay".into(),
        values: BTreeMap::from([("town".into(), "b".into())]),
        ..Scope::default()
    };
    let (locked, payload) = content(game);
    let entries = [LineupEntry { locked: &locked, payload: &payload }];
    let maps = MapsSection { play: Some("pier".into()), rotate: Some(vec!["pier".into()]), offer: None };
    let (settings, off) = (Settings::new(), BTreeMap::new());
    let said = |error: &dyn std::fmt::Display| error.to_string();
    let asked = Asked { maps: &maps, settings: &settings, off: &off, keep: &BTreeMap::new(), pack: None };
    let desired = desire(game, &scope, &entries, asked).map_err(|error| said(&error))?;
    let contents = BTreeMap::from([(locked.id.clone(), Settled::new(payload.clone()))]);
    plan(&desired, contents, &Receipt::empty(), &Present::default())
        .map_err(|error| format!("plan: {error}"))?;
    // A second content, where the two do not dispute a file or a value.
    let mut other = locked.clone();
    other.id = ContentId::new("gulls.2").expect("a plain text");
    let file = PayloadFile { path: "gulls.x".into(), size: 3, digest: Digest::of(b"abd"), to: None };
    let files = Payload { files: vec![file] };
    let both = [entries[0], LineupEntry { locked: &other, payload: &files }];
    if let Ok(desired) = desire(game, &scope, &both, asked)
        && let Err(error @ PlanChangeError::Edit { .. }) =
            plan(&desired, BTreeMap::new(), &Receipt::empty(), &Present::default())
    {
        return Err(format!("plan of two: {error}"));
    }
    let mut reader = LogReader::new(game, &scope, std::slice::from_ref(&locked), Some("pier"))
        .map_err(|error| said(&error))?;
    reader.feed("x");
    let filled = |template: &Template| template.render(&scope).map_err(|error| said(&error));
    let path = |template: &Template| TreePath::new(&filled(template)?).map_err(|error| said(&error));
    let spot = |place: &ConfigPlace| path(&place.file).and_then(|_| filled(&place.pointer));
    for template in game.run.command.iter().chain(&game.never_touch).chain(&game.recognise_all) {
        filled(template)?;
    }
    for agree in &game.agree {
        let Agree::Present { value, say } = agree else { continue };
        spot(value)?;
        filled(say)?;
    }
    let mut found = scope.clone();
    found.found.insert("who".into(), "pier".into());
    for symptom in &game.symptoms {
        symptom.say.render(&found).map_err(|error| said(&error))?;
    }
    if let Some(maps) = &game.maps {
        spot(&maps.play)?;
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 2_000, max_global_rejects: 1_000_000, ..ProptestConfig::default() })]
    #[test]
    fn what_is_accepted_does_not_fail_later(text in definition()) {
        let Ok(game) = load("quay.toml", &text) else { return Ok(()) };
        if rehearse(&game).is_err() {
            return Ok(());
        }
        if let Err(why) = use_it(&game) {
            prop_assert!(false, "{why}\n{text}");
        }
    }
}

#[test]
fn members_that_write_different_values_to_one_place_are_refused() {
    let text = |pointer: &str| {
        format!(
            "format = 1\nname = \"quay\"\ntitle = \"Quay\"\n[recognise]\nall = [\"quay.conf\"]\n\
             [run]\ncommand = [\"quay\"]\nstop = \"TERM\"\nready = \"open\"\n\
             [kind.part]\nshape = \"folder\"\nmarker = \"part.x\"\nplace = [{{ into = \"parts/{{{{ content.id }}}}/\" }}]\n\
             [kind.mod]\nshape = \"folder\"\nmarker = \"mod.x\"\nplace = [{{ into = \"mods/{{{{ content.id }}}}/\" }}]\n\
             members = [\"part\"]\nregister = [{{ set = \"d.ini#/s/{pointer}\", to = \"{{{{ member.folder }}}}\", each = \"part\" }}]\n"
        )
    };
    let tried = |pointer: &str| rehearse(&load("quay.toml", &text(pointer)).unwrap());
    assert!(tried("x-{{ member.id }}").is_ok());
    assert!(tried("x-").is_err());
}

/// The law would say nothing if nearly all was refused.
#[test]
fn enough_is_accepted() {
    use proptest::{strategy::ValueTree, test_runner::TestRunner};
    let mut runner = TestRunner::deterministic();
    let accepted = (0..2_000)
        .filter(|_| {
            let text = definition().new_tree(&mut runner).unwrap().current();
            load("quay.toml", &text).is_ok_and(|game| rehearse(&game).is_ok())
        })
        .count();
    assert!(accepted > 60, "{accepted} of 2000");
}

#[test]
fn the_built_in_ones_are_rehearsed() {
    for (name, text) in BUILT_IN {
        let game = load(name, text).unwrap();
        assert_eq!(rehearse(&game), Ok(()), "{name}");
    }
}
