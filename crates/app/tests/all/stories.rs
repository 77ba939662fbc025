//! What a front end does, one story a test.

use std::fs;

use yalotheca_app::{
    AppError, Purpose,
    apply::prepare,
    ops::{
        about::about,
        add::{AddRequest, add},
        catalogues::{add_catalogue, drop_catalogue, list_catalogues},
        check::{Depth, check},
        export::{ExportRequest, export},
        find::find,
        fix::{FixRequest, Fixed, fix},
        list::{ContentState, ListRequest, list},
        order::{PlaceRequest, order, place},
        remove::remove,
        settings::{SettingsRequest, change_settings},
        settle::{SettleRequest, settle},
        switch::{switch_off, switch_on},
        undo::{changes_to_undo, plan_undo, undo_to_redo},
        update::{ask_links, update},
        why::why,
    },
    plan::summary_of,
};
use yalotheca_core::{check::Weight, hint::Advice};
use yalotheca_host::settle::SettleError;

use crate::{Done, front::World};

fn names(texts: &[&str]) -> Vec<String> {
    texts.iter().map(ToString::to_string).collect()
}

fn named(texts: &[&str]) -> AddRequest {
    AddRequest { names: names(texts), ..AddRequest::default() }
}

#[test]
#[ignore = "runs in a process of its own"]
fn adopting_is_neutral_and_a_fix_is_one_change() -> Done {
    let world = World::new()?;
    let adopted = world.adopt()?;
    assert_eq!((adopted.contents.len(), adopted.misplaced.len()), (2, 1));
    let mut server = world.open(Purpose::Change)?;
    let change = settle(&server, &SettleRequest::default())?;
    let catalogues = server.catalogues_for(&change.wants);
    let nothing = prepare(&server, &catalogues, &change.wants, &change.fresh, change.extras)?;
    assert!(nothing.planned.change.is_empty(), "{}", nothing.summary());
    drop(catalogues);
    let found = check(&mut server, Depth::Changed, &world.front)?;
    assert_eq!(found.findings.iter().filter(|one| one.weight == Weight::Trouble).count(), 2);
    assert!(found.findings.iter().all(|one| !one.means.is_empty()));
    let report = fix(&mut server, &FixRequest::default())?;
    let Fixed::Change(change) = report.fixed else { return Err("there is something to fix".into()) };
    assert_eq!(change.extras.fixes.len(), 2);
    assert_eq!(World::settle(&server, *change)?, (1, 2));
    let mut server = world.open(Purpose::Change)?;
    assert!(
        check(&mut server, Depth::Changed, &world.front)?
            .findings
            .iter()
            .all(|one| one.weight == Weight::Note)
    );
    let report = fix(&mut server, &FixRequest::default())?;
    assert!(matches!(report.fixed, Fixed::NothingToFix(left) if left.is_empty()));
    Ok(())
}

#[test]
#[ignore = "runs in a process of its own"]
fn contents_come_and_go_and_come_back() -> Done {
    let world = World::new()?;
    world.adopt()?;
    let before = world.read("plugins/order.txt");
    let mut server = world.open(Purpose::Change)?;
    let change = add(&mut server, &named(&["tidebell"]), &world.front)?;
    World::settle(&server, change)?;
    assert!(world.read("plugins/order.txt").contains("tidebell"));
    let server = world.open(Purpose::Look)?;
    let reason = why(&server, "harbour-core")?;
    assert_eq!(reason.needed.len(), 1, "{reason:?}");
    assert!(about(&server, "tidebell")?.here.is_some());
    assert!(find(&server, &names(&["bell"]))?.found.len() > 1);
    let server = world.open(Purpose::Change)?;
    World::settle(&server, remove(&server, &names(&["tidebell"]))?)?;
    assert_eq!(world.read("plugins/order.txt"), before);
    // Back, and away again.
    let server = world.open(Purpose::Look)?;
    let [past] = changes_to_undo(&server, None)?.try_into().map_err(|_| "one change")?;
    let plan = plan_undo(&server, &past, false)?;
    assert!(plan.contents(&server)?.iter().any(|line| line.id.as_str() == "tidebell"));
    plan.settle(&server)?;
    assert!(world.read("plugins/order.txt").contains("tidebell"));
    let server = world.open(Purpose::Look)?;
    plan_undo(&server, &undo_to_redo(&server)?, false)?.settle(&server)?;
    assert_eq!(world.read("plugins/order.txt"), before);
    Ok(())
}

#[test]
#[ignore = "runs in a process of its own"]
fn what_is_off_is_listed_as_that() -> Done {
    let world = World::new()?;
    world.adopt()?;
    let server = world.open(Purpose::Change)?;
    World::settle(&server, switch_off(&server, &names(&["cobbles"]), "too slippery")?)?;
    let server = world.open(Purpose::Change)?;
    let listed = list(&server, ListRequest::default())?;
    let line = listed.contents.iter().find(|line| line.id.as_str() == "cobbles").ok_or("listed")?;
    assert_eq!((line.state, line.why.as_str()), (ContentState::Off, "too slippery"));
    World::settle(&server, switch_on(&server, &names(&["cobbles"]))?)?;
    let server = world.open(Purpose::Look)?;
    let again = switch_on(&server, &names(&["cobbles"]));
    assert!(matches!(again, Err(AppError::Usage { .. })));
    Ok(())
}

#[test]
#[ignore = "runs in a process of its own"]
fn what_does_not_go_together_is_a_typed_error() -> Done {
    let world = World::new()?;
    world.adopt()?;
    let mut server = world.open(Purpose::Change)?;
    let change = add(&mut server, &named(&["quiet-bells", "tidebell@>=1.3"]), &world.front)?;
    let catalogues = server.catalogues_for(&change.wants);
    let planned = prepare(&server, &catalogues, &change.wants, &change.fresh, change.extras);
    let Err(AppError::NoLineup(why)) = planned else { return Err("it has no solution".into()) };
    assert!(!why.because.is_empty() && !why.ways_out.is_empty());
    let unknown = add(&mut server, &AddRequest { later: true, ..named(&["nothing-such"]) }, &world.front);
    assert!(matches!(unknown, Err(AppError::UnknownContent { has_catalogues: true, .. })));
    Ok(())
}

#[test]
#[ignore = "runs in a process of its own"]
fn what_changes_between_plan_and_settle_stops_it() -> Done {
    let world = World::new()?;
    world.adopt()?;
    let mut server = world.open(Purpose::Change)?;
    let change = add(&mut server, &named(&["tidebell"]), &world.front)?;
    let catalogues = server.catalogues_for(&change.wants);
    let prepared = prepare(&server, &catalogues, &change.wants, &change.fresh, change.extras)?;
    // Somebody edits a file that the plan read.
    fs::write(world.folder().join("plugins/order.txt"), "night-lamps\ngull-chat\n")?;
    let went = prepared.settle(&server, &catalogues, &change.wants);
    assert!(matches!(went, Err(AppError::Settle(SettleError::Moved { .. }))));
    assert_eq!(world.read("plugins/order.txt"), "night-lamps\ngull-chat\n");
    assert!(!world.folder().join("plugins/tidebell-1.4.0.swp").exists());
    Ok(())
}

#[test]
#[ignore = "runs in a process of its own"]
fn settings_are_judged_and_kept() -> Done {
    let world = World::new()?;
    world.adopt()?;
    let mut server = world.open(Purpose::Change)?;
    let change = add(&mut server, &named(&["tidebell"]), &world.front)?;
    World::settle(&server, change)?;
    let server = world.open(Purpose::Change)?;
    let request = |text: &str| SettingsRequest {
        owner: "tidebell".into(),
        set: names(&[text]),
        ..SettingsRequest::default()
    };
    let change = change_settings(&server, &request("/volume=3"))?;
    assert_eq!(change.extras.asked, ["/volume = 3"]);
    change.note(&server)?;
    assert!(world.read("yalotheca.toml").contains("\"/volume\" = 3"));
    let server = world.open(Purpose::Look)?;
    let wrong =
        change_settings(&server, &SettingsRequest { owner: "tidebel".into(), ..request("/volume=3") });
    let Err(AppError::Usage { hint: Some(hint), .. }) = wrong else { return Err("no such owner".into()) };
    assert!(matches!(hint, Advice::Say(ref text) if text.contains("tidebell")), "{hint:?}");
    Ok(())
}

#[test]
#[ignore = "runs in a process of its own"]
fn orders_updates_and_packs() -> Done {
    let world = World::new()?;
    world.adopt()?;
    let mut server = world.open(Purpose::Change)?;
    let Fixed::Change(change) = fix(&mut server, &FixRequest::default())?.fixed else {
        return Err("there is something to fix".into());
    };
    World::settle(&server, *change)?;
    let server = world.open(Purpose::Change)?;
    let request =
        PlaceRequest { name: "gull-chat".into(), after: names(&["night-lamps"]), ..PlaceRequest::default() };
    World::settle(&server, place(&server, &request)?)?;
    let server = world.open(Purpose::Change)?;
    let ids: Vec<String> = order(&server).order.iter().map(|one| one.id.to_string()).collect();
    let at = |name: &str| ids.iter().position(|id| id == name);
    assert!(at("gull-chat") > at("night-lamps"), "{ids:?}");
    let catalogues = server.catalogues();
    let report = update(&server, &catalogues, &ask_links(&server, &[])?)?;
    assert!(summary_of(&report.planned.contents, 0, 0).contains("gull-chat now 1.1.0"));
    let file = world.root().join("pack.zip");
    let request = ExportRequest { file: file.clone(), version: "1.0".into(), ..ExportRequest::default() };
    let made = export(&server, &request)?;
    assert!(made.by_name.len() + made.bundled.len() >= 3 && file.exists());
    assert!(matches!(export(&server, &request), Err(AppError::Refused { .. })));
    Ok(())
}

#[test]
#[ignore = "runs in a process of its own"]
fn catalogues_and_a_front_end_that_listens() -> Done {
    let world = World::new()?;
    world.adopt()?;
    let server = world.open(Purpose::Change)?;
    assert!(world.front.heard.borrow().iter().any(|heard| heard == "secrets"));
    let folder = world.root().join("quayside").display().to_string();
    assert!(add_catalogue(&server, "second", (&folder, None))? > 3);
    let server = world.open(Purpose::Change)?;
    assert_eq!(list_catalogues(&server)?.catalogues.len(), 2);
    assert_eq!(drop_catalogue(&server, "second")?, 0);
    // A want that cannot be asked about is an error, and one that can is asked.
    fs::create_dir_all(world.root().join("files/two"))?;
    for name in ["lamp-oil-1.0.2.swp", "gull-chat-1.1.0.swp"] {
        let from = world.root().join("quayside/files").join(name);
        fs::copy(from, world.root().join("files/two").join(name))?;
    }
    let mut server = world.open(Purpose::Change)?;
    let request = named(&[&world.root().join("files/two").display().to_string()]);
    assert!(matches!(add(&mut server, &request, &world.front), Err(AppError::Usage { .. })));
    world.front.texts.borrow_mut().push_back("lamp-oil");
    let change = add(&mut server, &request, &world.front)?;
    assert_eq!(change.extras.asked, ["lamp-oil"]);
    assert!(world.front.heard.borrow().iter().any(|heard| heard.contains("Which of them")));
    Ok(())
}
