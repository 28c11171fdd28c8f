//! What is known of releases, branches and what happened, and how it is kept up with what others do.

use lantern_core::audience::Audience;
use lantern_core::event::EventBody;
use lantern_core::names::Name;
use lantern_project::{
    Class, Explained, Heard, HistoryAsked, HistoryError, LiveBuild, NotAsked, PrepareOptions, ProjectError,
    ReleaseError, Workspace,
};
use lantern_rehearsal::exports::GameVersion;

use crate::scene::{Scene, name};

fn full() -> Name {
    Name::full_edition()
}

/// What a workspace knows of the open branch.
fn on_open_water(open: &Workspace) -> Vec<(Name, LiveBuild)> {
    let live = open.live(&full()).unwrap();
    let branch = live[0].branches.iter().find(|branch| branch.branch == name("open-water")).unwrap();
    branch.targets.clone().into_iter().collect()
}

#[test]
fn the_board_tells_what_each_target_has() {
    let mut scene = Scene::new();
    let first = scene.push_next("1.4.0", GameVersion::Old);
    let open = scene.project().open().unwrap();
    assert!(on_open_water(&open).is_empty());
    scene.promote(&first);
    let live = on_open_water(&open);
    assert_eq!(live.len(), 2, "a workspace that was open before sees it, too");
    assert!(live.iter().all(|(_, live)| live.build.release == first.release.id && !live.is_behind));
    // Of one target there is a newer one, of the other there is not.
    scene.export_linux(GameVersion::New);
    scene.configure("1.4.1");
    let second = {
        let mut session = scene.session();
        session.project_mut().only_targets(&[name("linux")]).unwrap();
        session.prepare(&full(), &PrepareOptions::default(), &lantern_core::progress::Silent).unwrap()
    };
    let live = on_open_water(&open);
    let of = |target: &str| &live.iter().find(|(of, _)| *of == name(target)).unwrap().1;
    assert_eq!((of("linux").is_behind, of("windows").is_behind), (true, false));
    assert_eq!(of("windows").not_in.as_ref(), Some(&second.release.name));
    let storefront = &open.live(&full()).unwrap()[0];
    assert_eq!(storefront.newest.as_ref(), Some(&second.release.name));
    assert_eq!(storefront.branches[0].audience, Some(Audience::Everyone));
    scene.close();
    let asked = open.ask_all().unwrap();
    assert_eq!(asked.not_asked, None);
    assert!(matches!(&asked.heard[&name("brambleyard")], Heard::Not(ProjectError::Storefront { .. })));
    assert_eq!(on_open_water(&asked.workspace).len(), 2, "what is known stays known");
}

#[test]
fn nobody_waits_to_read() {
    let scene = Scene::new();
    let open = scene.project().open().unwrap();
    let held = scene.session();
    let asked = open.ask_all().unwrap();
    assert_eq!((asked.not_asked, asked.heard.len()), (Some(NotAsked::Busy), 0));
    drop(held);
    let asked = asked.workspace.ask_all().unwrap();
    assert!(asked.not_asked.is_none() && matches!(asked.heard[&name("brambleyard")], Heard::Now));
}

#[test]
fn each_release_says_where_it_is() {
    let scene = Scene::new();
    let first = scene.push_next("1.4.0", GameVersion::Old);
    scene.promote(&first);
    scene.configure("1.4.1");
    scene.export(GameVersion::New);
    let second = scene.prepare(&PrepareOptions::default());
    let open = scene.project().open().unwrap();
    let all = open.summaries().unwrap();
    let names: Vec<_> = all.iter().map(|summary| &summary.name).collect();
    assert_eq!(names, [&second.release.name, &first.release.name], "newest first");
    assert!(all[0].pushed_to.is_empty() && all[0].live_on.is_empty());
    assert_eq!(all[1].pushed_to.iter().collect::<Vec<_>>(), [&name("brambleyard")]);
    let live = (name("brambleyard"), name("open-water"));
    assert_eq!(all[1].live_on.iter().collect::<Vec<_>>(), [&live]);
    let shown = open.show(first.release.clone()).unwrap();
    assert_eq!((shown.builds.len(), shown.is_freed), (1, false));
    let files = open.files_of(&shown).unwrap();
    let depots = shown.record.different_depots();
    assert_eq!(files.len() as u64, depots.iter().map(|(_, depot)| depot.files).sum::<u64>());
}

#[test]
fn what_happened_is_told_newest_first_and_in_part() {
    let scene = Scene::new();
    let first = scene.push_next("1.4.0", GameVersion::Old);
    scene.promote(&first);
    let open = scene.project().open().unwrap();
    let ask = |asked: HistoryAsked| open.history(&asked);
    let all = ask(HistoryAsked { count: 100, ..HistoryAsked::default() }).unwrap();
    assert!(matches!(all.events[0].body, EventBody::Moved(_)), "{:?}", all.events[0]);
    assert_eq!((all.total, all.has_more, all.has_begun), (Some(all.events.len()), false, true));
    let every = ask(HistoryAsked { count: 100, all: true, ..HistoryAsked::default() }).unwrap();
    assert!(every.events.len() > all.events.len(), "an asking that was answered is shown with its answer");
    let one = ask(HistoryAsked { count: 1, ..HistoryAsked::default() }).unwrap();
    assert_eq!((one.events.len(), one.has_more, one.total), (1, true, all.total));
    let branch = HistoryAsked { count: 100, branch: Some("open-water".into()), ..HistoryAsked::default() };
    let of_branch = ask(branch).unwrap();
    assert!(!of_branch.events.is_empty() && of_branch.events.len() < all.events.len());
    let none = HistoryAsked { count: 100, edition: Some(name("demo")), ..HistoryAsked::default() };
    assert_eq!(ask(none).unwrap().total, Some(0));
}

#[test]
fn a_name_that_nothing_has_is_a_mistake() {
    let scene = Scene::new();
    scene.push_next("1.4.0", GameVersion::Old);
    let open = scene.project().open().unwrap();
    let wrong = HistoryAsked { storefront: Some("bramleyard".into()), ..HistoryAsked::default() };
    let Err(ProjectError::History(error)) = open.history(&wrong) else { panic!("nobody minds") };
    assert!(matches!(error, HistoryError::UnknownName { what: "storefront", .. }), "{error:?}");
    assert_eq!((error.class(), error.fixes()), (Class::Usage, vec!["did you mean brambleyard?".to_owned()]));
    let wrong = HistoryAsked { release: Some("99".parse().unwrap()), ..HistoryAsked::default() };
    let Err(ProjectError::Release(error)) = open.history(&wrong) else { panic!("nobody minds") };
    assert!(matches!(error, ReleaseError::NoRelease { .. }), "{error:?}");
    assert_eq!(error.fixes(), ["the only one is 1.4.0 (1)"]);
}
