use super::*;
use crate::route::{MemoryBundle, PayloadFile, destination, recognise, scope_of};

fn built_in(name: &str) -> Game {
    let (_, text) = BUILT_IN.iter().find(|(known, _)| *known == name).unwrap();
    load(&format!("{name}.toml"), text).unwrap()
}

fn bundle(files: &[(&str, &str)]) -> MemoryBundle {
    MemoryBundle {
        files: files.iter().map(|(path, text)| ((*path).into(), text.as_bytes().to_vec())).collect(),
    }
}

fn text_of(name: &str) -> &'static str {
    BUILT_IN.iter().find(|(known, _)| *known == name).unwrap().1
}

#[test]
fn built_in_definitions_load() {
    for (name, text) in BUILT_IN {
        assert_eq!(load(name, text).unwrap().name, *name);
    }
}

#[test]
fn mistakes_are_told_with_their_place() {
    let good = text_of("saltwick");
    for (from, to, line, said) in [
        ("suffix   = \".swp\"", "sufix = \".swp\"", "sufix", "unknown field `sufix`"),
        ("{{ values.town }}/packs/", "{{ values.twn }}/packs/", "values.twn", "did you mean values.town"),
        ("'info harbour open on port \\d+'", "'info ('", "info (", "the pattern is wrong"),
        ("\"plugins/order.txt#\"", "\"plugins/order.txt\"", "order.txt\"", "file#/pointer"),
        ("shape    = \"archive\"", "shape = \"archives\"", "archives", "not a shape"),
        ("quiet   = \"300ms\"", "quiet = \"soon\"", "soon", "not a time"),
        ("format = 1", "format = 9", "format = 9", "format 1"),
    ] {
        let text = good.replacen(from, to, 1);
        assert_ne!(text, good, "{from}");
        let error = load("g.toml", &text).unwrap_err();
        let expected = text.lines().position(|text| text.contains(line)).unwrap() + 1;
        let whole = format!("{error} {}", error.advice);
        assert!(whole.contains(said), "{whole}");
        assert_eq!(error.line, expected, "{whole}");
    }
    let error = load("g.toml", &good.replacen("suffix   =", "sufix =", 1)).unwrap_err();
    assert_eq!(error.advice, "did you mean suffix?");
}

#[test]
fn mistakes_about_files_maps_and_links_are_told() {
    let good = text_of("kitehollow");
    let more = "\n[[link]]\nmatch = '^(?<number>\\d+)$'\ndirect = \"https://x.example/{{ number }}\"\n[[leave-out]]\nfiles = [\"*.bak\"]\nwhy = \"old\"\n";
    let good = format!("{good}{more}");
    let game = load("g.toml", &good).unwrap();
    assert_eq!((game.links.len(), game.leave_out.len()), (1, 1));
    for (from, to, line, said) in [
        (
            "suffix     = \".kmap\"\nmagic      = \"KMAP\"\n",
            "",
            "shape      = \"file\"",
            "\"suffix\" or by \"magic\"",
        ),
        ("magic      = \"KMAP\"", "magic = \"hex:4b4\"", "hex:4b4", "hex:4b4d"),
        ("magic      = \"KMAP\"", "magic = \"hex:zz\"", "hex:zz", "first bytes"),
        ("\"{{ name }}.lanes\"", "\"x.lanes\"", "x.lanes", "{{ name }} in it"),
        ("at = 8, plus", "att = 8, plus", "att = 8", "unknown field `att`"),
        ("kind   = \"map\"", "kind = \"mapp\"", "mapp", "there is no kind"),
        ("offer  = {", "ofer = {", "ofer", "unknown field `ofer`"),
        ("stop    = \"INT\"", "stop = \"HUP\"", "HUP", "not a signal"),
        ("stop    = \"INT\"", "stop = { line = \"x\", port = \"1\" }", "line = \"x\"", "a signal, or"),
        ("{{ number }}", "{{ numbr }}", "numbr", "did you mean number"),
        ("'^(?<number>", "'^(?<number", "(?<number", "the pattern is wrong"),
        ("[\"*.bak\"]", "[\"[\"]", "[\"[\"]", "the pattern is wrong"),
    ] {
        let text = good.replacen(from, to, 1);
        assert_ne!(text, good, "{from}");
        let Err(error) = load("g.toml", &text) else { panic!("{from} became {to}, and that is taken") };
        let whole = format!("{error} {}", error.advice);
        assert!(whole.contains(said), "{from}: {whole}");
        let expected = text.lines().position(|text| text.contains(line)).unwrap() + 1;
        assert!(error.line.abs_diff(expected) <= 1, "{from}: line {} and not {expected}", error.line);
    }
}

#[test]
fn a_console_line_stops_better_than_a_signal() {
    let game = built_in("teeworlds");
    assert_eq!((game.run.stop_line.as_deref(), game.run.stop), (Some("shutdown"), StopSignal::Int));
    assert_eq!(game.console.unwrap().secret.unwrap().pointer.as_str(), "/ec_password");
    assert!(built_in("kitehollow").run.stop_line.is_none());
}

#[test]
fn sides_and_loaders_are_read_from_descriptors() {
    let game = built_in("saltwick");
    let text = "id = \"rope-bridges\"\nversion = \"0.4\"\nengine = \">=2.2\"\nloader = \"pontoon >=3\"\nside = \"both\"\n[needs]\nropes = \"*\"\n";
    let found = |text: &str| recognise(&game, Shape::Archive, "x.swm", &mut bundle(&[("mod.toml", text)]));
    let release = found(text).unwrap().unwrap().release;
    assert_eq!(release.side, crate::catalogue::Side::Both);
    assert_eq!(release.platforms[0]["pontoon"].as_str(), ">=3");
    assert!(release.needs.keys().any(|id| id.as_str() == "ropes"));
    assert!(found(&text.replace("both", "everywhere")).unwrap_err().why.contains("is not a side"));
    let any = found(&text.replace("pontoon >=3", "pontoon")).unwrap().unwrap().release;
    assert!(any.platforms[0]["pontoon"].is_any());
}

#[test]
fn values_come_after_what_they_use() {
    let names: Vec<String> = built_in("luanti").values.into_iter().map(|(name, _)| name).collect();
    let at = |name: &str| names.iter().position(|n| n == name).unwrap();
    assert!(at("world") < at("game"));
    let looped = text_of("luanti")
        .replace("world   = { default = \"world\",", "world = { from = \"{{ values.game }}.conf#/x\",");
    assert!(load("g", &looped).unwrap_err().why.contains("by way of itself"));
}

#[test]
fn a_plugin_says_what_it_is() {
    let game = built_in("saltwick");
    let text = r#"{"id": "tidebell", "title": "Tidebell", "version": "1.4.0", "engine": ">=2.2 <3",
        "needs": {"harbour-core": ">=2.1 <3"}, "after": ["gull-chat"]}"#;
    let found =
        recognise(&game, Shape::Archive, "x.swp", &mut bundle(&[("plugin.json", text)])).unwrap().unwrap();
    assert_eq!((found.id.as_str(), found.release.kind.as_str()), ("tidebell", "plugin"));
    assert_eq!(found.release.needs.len() + found.release.after.len() + found.release.platforms.len(), 3);
    assert!(
        recognise(&game, Shape::Archive, "x.zip", &mut bundle(&[("plugin.json", text)])).unwrap().is_none()
    );
    assert!(
        recognise(&game, Shape::Archive, "x.swp", &mut bundle(&[("in/plugin.json", text)]))
            .unwrap()
            .is_none()
    );
    let broken =
        recognise(&game, Shape::Archive, "x.swp", &mut bundle(&[("plugin.json", "{oops")])).unwrap_err();
    assert!(broken.to_string().starts_with("plugin.json: it is not JSON"), "{broken}");
    let file = PayloadFile { path: "x.swp".into(), size: 1, digest: crate::id::Digest::of(b""), to: None };
    let scope = scope_of(&Scope::default(), &found.id, &found.title, &found.release);
    assert_eq!(destination(&game.kinds["plugin"], &scope, &file).unwrap().as_str(), "plugins/x.swp");
}

#[test]
fn groups_are_found_by_pattern_and_the_rest_has_its_place() {
    let text = BUILT_IN.iter().find(|(name, _)| *name == "saltwick").unwrap().1;
    let with = |groups: &str| {
        let order = format!("[order]\ngroups = {groups}\n\n[recognise]");
        load("x", &text.replacen("[recognise]", &order, 1))
    };
    let group = |game: &Game, name: &str| game.order.group(&ContentId::new(name).unwrap());
    let game = with(r#"[["*-core", "lib-*"], ["*"], ["late-*"]]"#).unwrap();
    assert_eq!(["harbour-core", "lib-x", "tidebell", "late-x"].map(|name| group(&game, name)), [0, 0, 1, 2]);
    assert_eq!(game.order.patterns(0).collect::<Vec<_>>(), ["*-core", "lib-*"]);
    let game = with(r#"[["*-core"]]"#).unwrap();
    assert_eq!(["harbour-core", "tidebell"].map(|name| group(&game, name)), [0, 1]);
    assert_eq!(group(&built_in("saltwick"), "tidebell"), 0);
    let error = with(r#"[["a", "["]]"#).unwrap_err();
    assert!(error.why.contains("the pattern is wrong"), "{error}");
    assert!(with("[]\ngruops = 1").unwrap_err().advice.contains("groups"));
}

#[test]
fn a_pack_gathers_its_members() {
    let game = built_in("luanti");
    let found = recognise(
        &game,
        Shape::Folder,
        "mesecons",
        &mut bundle(&[
            ("modpack.txt", ""),
            ("mesecons/init.lua", ""),
            ("mesecons/depends.txt", "default\n"),
            ("mesecons_lamp/init.lua", ""),
            ("mesecons_lamp/depends.txt", "mesecons\ndye?\n\nghost\n"),
            ("inner/modpack.conf", "name = inner"),
            ("inner/deep/mod.conf", "name = deeper\ndepends = mesecons, wool\nmin_minetest_version = 5.2.0"),
            ("textures/x.png", ""),
        ]),
    )
    .unwrap()
    .unwrap();
    let members: Vec<_> = found.release.members.iter().map(|m| (m.id.as_str(), m.folder.as_str())).collect();
    assert_eq!(
        members,
        [("deeper", "inner/deep"), ("mesecons", "mesecons"), ("mesecons_lamp", "mesecons_lamp")]
    );
    let needs: Vec<&str> = found.release.needs.keys().map(ContentId::as_str).collect();
    assert_eq!(needs, ["default", "ghost", "wool"]);
    assert_eq!(found.release.welcomes.keys().map(ContentId::as_str).collect::<Vec<_>>(), ["dye"]);
    assert_eq!(found.release.platforms[0]["luanti"].as_str(), ">=5.2.0");
}

#[test]
fn what_a_built_in_definition_reads_as_a_password_is_never_shown() {
    let mut seen = 0;
    for (name, text) in super::BUILT_IN {
        let game = super::load(name, text).unwrap();
        let Some(place) = game.console.as_ref().and_then(|console| console.secret.as_ref()) else { continue };
        let is_secret = game
            .settings
            .iter()
            .flat_map(|rule| &rule.keys)
            .any(|(at, key)| key.secret && at.to_string() == place.pointer.as_str());
        assert!(is_secret, "{name}: {}", place.pointer.as_str());
        seen += 1;
    }
    assert!(seen >= 3);
}
