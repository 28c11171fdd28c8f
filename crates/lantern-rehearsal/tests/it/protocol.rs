//! Each rule of the protocol, kept and broken.

use crate::scene::{Scene, key};
use jiff::SignedDuration;
use lantern_core::digest::{Digest, RecipeId};
use lantern_core::tree::Tree;
use lantern_rehearsal::stand_in::StandInDocument;
use reqwest::StatusCode;
use reqwest::blocking::Response;
use serde_json::{Value, json};

#[track_caller]
fn problem(response: Response, status: u16, name: &str) -> Value {
    assert_eq!(response.status().as_u16(), status);
    assert_eq!(response.headers()["content-type"], "application/problem+json");
    let problem: Value = response.json().unwrap();
    assert_eq!(problem["type"], format!("/problems/{name}"), "{problem}");
    assert_eq!(problem["status"], status);
    assert!(!problem["fix"].as_str().unwrap().is_empty());
    problem
}

#[test]
fn the_document_in_docs_is_that_of_the_code() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json");
    let text = format!("{}\n", serde_json::to_string_pretty(&lantern_rehearsal::server::openapi()).unwrap());
    if std::env::var_os("UPDATE_EXPECTED").is_some() {
        std::fs::write(path, &text).unwrap();
    }
    // The whole of both would be thousands of lines.
    assert!(
        std::fs::read_to_string(path).unwrap() == text,
        "{path} is older than the code: UPDATE_EXPECTED=1 writes it again"
    );
}

#[test]
fn every_endpoint_of_the_document_answers() {
    let scene = Scene::new();
    let document: Value = scene.get("/v1/openapi.json").json().unwrap();
    assert_eq!(document["openapi"], "3.1.0");
    let mut count = 0;
    for (path, item) in document["paths"].as_object().unwrap() {
        for (method, operation) in item.as_object().unwrap() {
            count += 1;
            let path = path.replace("{title}", "none").replace("{branch}", "open-water").replace("{problem}", "rules");
            let path = path.replace("{build}", "1");
            let path = ["{recipe}", "{segment}", "{pack}"].iter().fold(path, |p, k| p.replace(k, &"0".repeat(64)));
            let response = scene.request(method, &path, None, Vec::new());
            let alternatives = operation.get("security").and_then(Value::as_array);
            let needs_access =
                alternatives.is_some_and(|all| all.iter().all(|one| !one.as_object().unwrap().is_empty()));
            assert_eq!(
                response.status() == StatusCode::UNAUTHORIZED && path != "/v1/token",
                needs_access,
                "{method} {path}"
            );
            assert_ne!(response.status(), StatusCode::METHOD_NOT_ALLOWED, "{method} {path}");
            assert!(!response.status().is_server_error(), "{method} {path}");
        }
    }
    assert!(count > 20, "{count}");
}

#[test]
fn references_in_the_document_lead_somewhere() {
    let document = lantern_rehearsal::server::openapi();
    let mut found = 0;
    let mut open = vec![&document];
    while let Some(value) = open.pop() {
        match value {
            Value::Object(map) => {
                if let Some(reference) = map.get("$ref").and_then(Value::as_str) {
                    found += 1;
                    let pointer = reference.strip_prefix('#').unwrap();
                    assert!(document.pointer(pointer).is_some(), "{reference}");
                }
                open.extend(map.values());
            }
            Value::Array(items) => open.extend(items),
            _ => {}
        }
    }
    assert!(found > 20);
}

#[test]
fn access_is_given_for_the_right_secret_only() {
    let scene = Scene::new();
    let secret = scene.running.stand_in().secret().to_owned();
    let ask = |grant: &str, client: &str, secret: &str| {
        let form = [("grant_type", grant), ("client_id", client), ("client_secret", secret)];
        let response = scene.client.post(scene.url("/v1/token")).form(&form).send().unwrap();
        (response.status().as_u16(), response.json::<Value>().unwrap())
    };
    let (status, token) = ask("client_credentials", "paper-heron", &secret);
    assert_eq!((status, &token["token_type"]), (200, &json!("Bearer")));
    let (status, error) = ask("client_credentials", "paper-heron", "guess");
    assert_eq!((status, &error["error"]), (401, &json!("invalid_client")));
    let (status, error) = ask("client_credentials", "other", &secret);
    assert_eq!((status, &error["error"]), (401, &json!("invalid_client")));
    let (status, error) = ask("password", "paper-heron", &secret);
    assert_eq!((status, &error["error"]), (400, &json!("unsupported_grant_type")));
    problem(scene.request("get", "/v1/rules", Some("Bearer made-up"), Vec::new()), 401, "no-access");
    problem(scene.request("get", "/v1/rules", Some("made-up"), Vec::new()), 401, "no-access");
}

#[test]
fn house_rules_are_cached_by_their_etag() {
    let scene = Scene::new();
    let first = scene.get("/v1/rules");
    let etag = first.headers()["etag"].to_str().unwrap().to_owned();
    assert_eq!(first.json::<Value>().unwrap()["numbers"]["number"], "must-rise");
    let again = scene.send(|r| r.header("If-None-Match", &etag), "get", "/v1/rules", Vec::new());
    assert_eq!(again.status(), StatusCode::NOT_MODIFIED);
    let other = scene.send(|r| r.header("If-None-Match", "\"99\""), "get", "/v1/rules", Vec::new());
    assert_eq!(other.status(), StatusCode::OK);
}

#[test]
fn a_title_is_made_once_and_can_get_depots() {
    let scene = Scene::new();
    let title = |depots: &[&str], identity: &str| json!({ "handle": "first-tide", "name": "First Tide", "identity": identity, "depots": depots });
    let identity = "example.paperheron.saltmarsh";
    assert_eq!(scene.post("/v1/titles", &title(&["a"], identity), &key(1), None).status(), StatusCode::CREATED);
    let more: Value = scene.post("/v1/titles", &title(&["b"], identity), &key(2), None).json().unwrap();
    assert_eq!(more["depots"], json!(["a", "b"]));
    problem(scene.post("/v1/titles", &title(&["a"], "example.other.game"), &key(3), None), 409, "exists");
    let titles: Value = scene.get("/v1/titles").json().unwrap();
    assert_eq!(titles["titles"].as_array().unwrap().len(), 2);
}

#[test]
fn recipes_go_first_and_the_answer_says_what_is_missing() {
    let scene = Scene::new();
    let sealed = scene.seal("1.3.2", 25, 7);
    let root = scene.store.recipe_bytes(sealed.recipe).unwrap();
    let path = format!("/v1/titles/saltmarsh-post/recipes/{}", sealed.recipe.0.hex());
    let needs: Value = scene.put(&path, root.clone()).json().unwrap();
    let segments = needs["segments"].as_array().unwrap();
    assert_eq!((segments.len(), &needs["chunks"]), (1, &json!([])));
    scene.bring_segments(&sealed);
    let needs: Value = scene.put(&path, root.clone()).json().unwrap();
    let count = sealed.chunks as u64;
    assert_eq!(needs, json!({ "segments": [], "chunks": [[0, count]] }));
    scene.bring_packs();
    let needs: Value = scene.put(&path, root).json().unwrap();
    assert_eq!(needs, json!({ "segments": [], "chunks": [] }));
    // Repeating harms nothing.
    scene.bring_packs();
}

#[test]
fn bytes_that_are_not_what_they_are_named_are_refused() {
    let scene = Scene::new();
    let sealed = scene.seal("1.3.2", 25, 7);
    let pack = scene.store.packs().unwrap()[0];
    let mut bytes = scene.store.read_pack(&pack).unwrap();
    let pack_path = format!("/v1/titles/saltmarsh-post/packs/{}", pack.hex());
    bytes[50] ^= 1;
    problem(scene.put(&pack_path, bytes.clone()), 422, "damaged");
    let under_its_own_name = format!("/v1/titles/saltmarsh-post/packs/{}", Digest::of(&bytes).hex());
    problem(scene.put(&under_its_own_name, bytes), 422, "damaged");
    problem(scene.put(&pack_path, Vec::new()), 422, "damaged");
    let root = scene.store.recipe_bytes(sealed.recipe).unwrap();
    let other = format!("/v1/titles/saltmarsh-post/recipes/{}", "0".repeat(64));
    problem(scene.put(&other, root), 422, "damaged");
    let segment = format!("/v1/titles/saltmarsh-post/segments/{}", "0".repeat(64));
    problem(scene.put(&segment, b"x".to_vec()), 422, "damaged");
    problem(scene.put("/v1/titles/saltmarsh-post/packs/zz", b"x".to_vec()), 400, "malformed");
    problem(scene.put("/v1/titles/nobody/segments/00", b"x".to_vec()), 400, "malformed");
    problem(scene.get("/v1/titles/nobody"), 404, "not-found");
    problem(scene.get("/v1/elsewhere"), 404, "not-found");
}

#[test]
fn what_is_too_large_is_refused() {
    let scene = Scene::new();
    let path = format!("/v1/titles/saltmarsh-post/packs/{}", "0".repeat(64));
    problem(scene.put(&path, vec![0; (24 << 20) + 1]), 413, "too-large");
    problem(scene.put(&path, vec![0; (64 << 20) + 1]), 413, "too-large");
    // What the discovery document says is taken is taken, and not a byte more.
    let limits = scene.get("/.well-known/lantern-storefront").json::<Value>().unwrap()["limits"].clone();
    let limit = |name: &str| usize::try_from(limits[name].as_u64().unwrap()).unwrap();
    let sealed = scene.seal("1.3.2", 25, 7);
    scene.bring_recipe(&sealed);
    scene.bring_packs();
    let with = |key: &str, value: Value| {
        let mut document = sealed.document("sp-linux");
        document[key] = value;
        document
    };
    let builds = "/v1/titles/saltmarsh-post/builds";
    let (text, notes) = (limit("text_bytes"), limit("notes_bytes"));
    problem(scene.post(builds, &with("message", json!("m".repeat(text + 1))), &key(1), None), 413, "too-large");
    let languages = |len: usize| json!({ "en": "n".repeat(len - 2) });
    problem(scene.post(builds, &with("notes", languages(notes + 1)), &key(2), None), 413, "too-large");
    problem(scene.post(builds, &with("name_there", json!("n".repeat(256))), &key(3), None), 400, "malformed");
    let mut whole = with("message", json!("m".repeat(text)));
    (whole["notes"], whole["name_there"]) = (languages(notes), json!("n".repeat(255)));
    assert_eq!(scene.post(builds, &whole, &key(4), None).status(), StatusCode::CREATED);
    let to = |because: usize| json!({ "targets": { "linux": 1 }, "because": "b".repeat(because) });
    problem(scene.post(MOVES, &to(text + 1), &key(5), Some("\"0\"")), 413, "too-large");
    assert_eq!(scene.post(MOVES, &to(text), &key(6), Some("\"0\"")).status(), StatusCode::OK);
}

#[test]
fn a_build_is_made_when_everything_has_arrived() {
    let scene = Scene::new();
    let sealed = scene.seal("1.3.2", 25, 7);
    let document = sealed.document("sp-linux");
    let path = "/v1/titles/saltmarsh-post/builds";
    problem(scene.post(path, &document, &key(1), None), 404, "not-found");
    scene.bring_recipe(&sealed);
    problem(scene.post(path, &document, &key(2), None), 422, "incomplete");
    scene.bring_packs();
    problem(scene.post(path, &sealed.document("sp-win"), &key(3), None), 404, "not-found");
    let made = scene.post(path, &document, &key(4), None);
    assert_eq!(made.status(), StatusCode::CREATED);
    let made: Value = made.json().unwrap();
    assert_eq!((&made["number_there"], &made["number"], &made["message"]), (&json!(1), &json!(25), &json!("for us")));
    // Equal content answers with the build that exists.
    let again: Value = scene.post(path, &document, &key(5), None).json().unwrap();
    assert_eq!(again, made);
    let builds: Value = scene.get(path).json().unwrap();
    assert_eq!(builds["builds"], json!([made]));
}

#[test]
fn numbers_rise_and_are_taken_once() {
    let scene = Scene::new();
    scene.bring(&scene.seal("1.3.2", 25, 7));
    let path = "/v1/titles/saltmarsh-post/builds";
    let refused = |version: &str, number: u64, seed: u64| {
        let sealed = scene.seal(version, number, seed);
        scene.bring_recipe(&sealed);
        scene.bring_packs();
        scene.post(path, &sealed.document("sp-linux"), &key(number + seed), None)
    };
    let taken = problem(refused("1.3.3", 25, 8), 409, "number-taken");
    assert_eq!(taken["refusals"][0]["rule"], "number-taken");
    let low = problem(refused("1.3.3", 24, 8), 422, "house-rules");
    assert_eq!(low["refusals"][0]["rule"], "number-not-raised");
    assert_eq!(refused("1.3.3", 26, 8).status(), StatusCode::CREATED);
}

#[test]
fn a_release_of_another_game_is_refused() {
    let scene = Scene::new();
    let sealed = scene.seal("1.3.2", 25, 7);
    scene.bring_recipe(&sealed);
    scene.bring_packs();
    let mut document = sealed.document("sp-linux");
    let record = document["record"].as_str().unwrap().replace("paperheron", "otherstudio");
    document["record"] = record.into();
    problem(scene.post("/v1/titles/saltmarsh-post/builds", &document, &key(1), None), 422, "house-rules");
}

#[test]
fn a_recipe_of_another_tree_than_the_record_is_refused() {
    let scene = Scene::new();
    let (one, two) = (scene.seal("1.3.2", 25, 7), scene.seal("1.4.0", 26, 8));
    for sealed in [&one, &two] {
        scene.bring_recipe(sealed);
    }
    scene.bring_packs();
    let mut document = one.document("sp-linux");
    document["depots"][0]["recipe"] = two.recipe.to_string().into();
    problem(scene.post("/v1/titles/saltmarsh-post/builds", &document, &key(1), None), 422, "damaged");
}

const MOVES: &str = "/v1/titles/saltmarsh-post/branches/open-water/moves";

#[test]
fn a_branch_moves_only_from_the_revision_that_was_seen() {
    let scene = Scene::new();
    scene.bring(&scene.seal("1.3.2", 25, 7));
    let to = |build: u64| json!({ "targets": { "linux": build }, "because": "why" });
    problem(scene.post(MOVES, &to(1), &key(1), None), 428, "condition-missing");
    problem(scene.post(MOVES, &to(1), &key(2), Some("\"5\"")), 412, "branch-moved");
    problem(scene.post(MOVES, &to(9), &key(3), Some("\"0\"")), 404, "not-found");
    let moved = scene.post(MOVES, &to(1), &key(4), Some("\"0\""));
    let moved: Value = moved.json().unwrap();
    assert_eq!(
        (&moved["revision"], &moved["by"], &moved["audience"]),
        (&json!(1), &json!("paper-heron"), &json!("everyone"))
    );
    let raced = problem(scene.post(MOVES, &to(1), &key(5), Some("\"0\"")), 412, "branch-moved");
    assert!(raced["detail"].as_str().unwrap().contains("by paper-heron"), "{raced}");
    let branch = scene.get("/v1/titles/saltmarsh-post/branches/open-water");
    assert_eq!(branch.headers()["etag"], "\"1\"");
    let history: Value = scene.get(MOVES).json().unwrap();
    assert_eq!((&history["moves"][0]["key"], &history["moves"][0]["because"]), (&json!(key(4)), &json!("why")));
    problem(scene.get("/v1/titles/saltmarsh-post/branches/estuary/moves"), 404, "not-found");
}

#[test]
fn a_branch_that_waits_for_another_counts_by_its_own_clock() {
    let scene = Scene::with(StandInDocument::brambleyard());
    scene.bring(&scene.seal("1.3.2", 25, 7));
    let promote = |branch: &str, n: u64| {
        let path = format!("/v1/titles/saltmarsh-post/branches/{branch}/moves");
        scene.post(&path, &json!({ "targets": { "linux": 1 } }), &key(n), Some("\"0\""))
    };
    let refused = |n: u64| {
        let refused = problem(promote("open-water", n), 422, "house-rules");
        assert_eq!(refused["refusals"][0]["rule"], "not-carried");
        refused["fix"].as_str().unwrap().to_owned()
    };
    scene.running.stand_in().set_clock("2026-11-27T10:00:00Z".parse().unwrap());
    assert_eq!(refused(1), "promote it to creek first");
    assert_eq!(promote("creek", 2).status(), StatusCode::OK);
    scene.running.stand_in().pass_time(SignedDuration::new(24 * 3600 - 1, 0));
    assert_eq!(refused(3), "wait 1 min more");
    scene.running.stand_in().pass_time(SignedDuration::from_secs(1));
    assert_eq!(promote("open-water", 4).status(), StatusCode::OK);
}

#[test]
fn putting_back_must_be_what_was_there() {
    let scene = Scene::new();
    scene.bring(&scene.seal("1.3.2", 25, 7));
    let one = json!({ "targets": { "linux": 1 } });
    let back = |targets: Value, revision: u64| json!({ "targets": targets, "restores": revision });
    scene.post(MOVES, &one, &key(1), Some("\"0\""));
    scene.post(MOVES, &json!({ "targets": {} }), &key(2), Some("\"1\""));
    problem(scene.post(MOVES, &back(json!({}), 1), &key(3), Some("\"2\"")), 404, "not-found");
    problem(scene.post(MOVES, &back(json!({ "linux": 1 }), 9), &key(4), Some("\"2\"")), 404, "not-found");
    let moved = scene.post(MOVES, &back(json!({ "linux": 1 }), 1), &key(5), Some("\"2\""));
    assert_eq!(moved.status(), StatusCode::OK);
    let history: Value = scene.get(MOVES).json().unwrap();
    assert_eq!((&history["moves"][1]["restores"], &history["moves"][2]["restores"]), (&json!(null), &json!(1)));
}

#[test]
fn a_key_that_comes_again_gets_the_same_answer_and_belongs_to_one_request() {
    let scene = Scene::new();
    scene.bring(&scene.seal("1.3.2", 25, 7));
    let to = |because: &str| json!({ "targets": { "linux": 1 }, "because": because });
    let first: Value = scene.post(MOVES, &to("a"), &key(1), Some("\"0\"")).json().unwrap();
    let again: Value = scene.post(MOVES, &to("a"), &key(1), Some("\"0\"")).json().unwrap();
    assert_eq!(first, again);
    problem(scene.post(MOVES, &to("b"), &key(1), Some("\"0\"")), 422, "key-reused");
    problem(scene.post(MOVES, &to("a"), "not-a-uuid", Some("\"0\"")), 400, "malformed");
    let without = scene.send(|r| r.header("If-Match", "\"1\""), "post", MOVES, to("a").to_string().into_bytes());
    problem(without, 428, "condition-missing");
    assert_eq!(scene.get(MOVES).json::<Value>().unwrap()["moves"].as_array().unwrap().len(), 1);
}

#[test]
fn of_many_moves_at_once_one_wins_each_revision() {
    let scene = Scene::new();
    scene.bring(&scene.seal("1.3.2", 25, 7));
    let body = json!({ "targets": { "linux": 1 } });
    for revision in 0..5_u64 {
        let wins = std::thread::scope(|scope| {
            let post = |n: u64| {
                let (scene, body) = (&scene, &body);
                scope.spawn(move || {
                    let condition = format!("\"{revision}\"");
                    scene.post(MOVES, body, &key(1000 + revision * 10 + n), Some(&condition)).status() == StatusCode::OK
                })
            };
            let threads: Vec<_> = (0..4).map(post).collect();
            threads.into_iter().filter_map(|t| t.join().ok()).filter(|won| *won).count()
        });
        assert_eq!(wins, 1);
    }
}

#[test]
fn events_come_in_order_and_only_the_new_ones() {
    let scene = Scene::new();
    scene.bring(&scene.seal("1.3.2", 25, 7));
    scene.post(MOVES, &json!({ "targets": { "linux": 1 } }), &key(1), Some("\"0\""));
    let path = "/v1/titles/saltmarsh-post/events";
    let all: Value = scene.get(path).json().unwrap();
    let kinds: Vec<&str> = all["events"].as_array().unwrap().iter().map(|e| e["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["title-made", "build-made", "branch-moved"]);
    let rest: Value = scene.get(&format!("{path}?after={}", all["events"][1]["cursor"])).json().unwrap();
    assert_eq!(rest["events"], json!([all["events"][2]]));
    let none: Value = scene.get(&format!("{path}?after={}", all["next"])).json().unwrap();
    assert_eq!((&none["events"], &none["next"]), (&json!([]), &all["next"]));
    problem(scene.get(&format!("{path}?after=x")), 400, "malformed");
}

#[test]
fn players_see_only_what_was_ever_promoted() {
    let scene = Scene::new();
    let sealed = scene.seal("1.3.2", 25, 7);
    scene.bring(&sealed);
    let open = |path: &str| scene.request("get", path, None, Vec::new());
    let play: Value = open("/v1/play/saltmarsh-post/open-water").json().unwrap();
    assert_eq!(play["builds"], json!({}));
    let recipe = format!("/v1/play/saltmarsh-post/open-water/recipes/{}", sealed.recipe.0.hex());
    let segment = scene.store.recipe_root(sealed.recipe).unwrap().segments[0].digest;
    let locator = format!("/v1/play/saltmarsh-post/open-water/locators/{}", segment.hex());
    problem(open(&recipe), 404, "not-found");
    problem(open(&locator), 404, "not-found");
    scene.post(MOVES, &json!({ "targets": { "linux": 1 } }), &key(1), Some("\"0\""));
    let bytes = open(&recipe).bytes().unwrap();
    assert_eq!(RecipeId::of(&bytes), sealed.recipe);
    assert!(open(&locator).status().is_success());
    problem(open("/v1/play/saltmarsh-post/estuary"), 404, "not-found");
    // Taken off the branch, it can still be had: an update may be under way.
    scene.post(MOVES, &json!({ "targets": {} }), &key(2), Some("\"1\""));
    assert!(open(&recipe).status().is_success());
}

#[test]
fn players_ask_for_ranges_with_both_ends() {
    let scene = Scene::new();
    scene.bring(&scene.seal("1.3.2", 25, 7));
    scene.post(MOVES, &json!({ "targets": { "linux": 1 } }), &key(1), Some("\"0\""));
    let pack = scene.store.packs().unwrap()[0];
    let whole = scene.store.read_pack(&pack).unwrap();
    let path = format!("/v1/play/saltmarsh-post/open-water/packs/{}", pack.hex());
    let range = |text: &str| scene.request_of_player("get", &path, &[("Range", text)]);
    // Every byte between a pack's head and its table is named by the build's locator.
    let (root, entries) = scene.store.recipe(scene.store.recipes().unwrap()[0]).unwrap();
    let locator = scene.store.locator_of(&root, &entries).unwrap();
    let from = locator.locations().map(|l| l.entry.offset).min().unwrap();
    let to = locator.locations().map(|l| l.entry.offset + l.entry.stored_len).max().unwrap();
    let part = range(&format!("bytes={}-{}", from + 10, from + 19));
    assert_eq!(part.status(), StatusCode::PARTIAL_CONTENT);
    assert_eq!(part.headers()["content-range"], format!("bytes {}-{}/{}", from + 10, from + 19, whole.len()));
    assert_eq!(part.bytes().unwrap(), whole[from as usize + 10..from as usize + 20]);
    assert_eq!(range(&format!("bytes={from}-{}", to - 1)).bytes().unwrap(), whole[from as usize..to as usize]);
    for beyond in [format!("bytes={from}-{to}"), format!("bytes=0-{from}"), format!("bytes=0-{}", u32::MAX)] {
        problem(range(&beyond), 404, "not-found");
    }
    for odd in ["bytes=9-5", "bytes=5-", "lines=1-2", "bytes=a-b", "bytes=-5", "bytes=0-9,20-29"] {
        problem(range(odd), 400, "malformed");
    }
    problem(scene.request_of_player("get", &path, &[]), 400, "malformed");
    problem(scene.get(&path.replace(&pack.hex(), &"0".repeat(64))), 400, "malformed");
}

#[test]
fn everything_survives_a_restart() {
    let mut scene = Scene::new();
    scene.bring(&scene.seal("1.3.2", 25, 7));
    scene.post(MOVES, &json!({ "targets": { "linux": 1 } }), &key(1), Some("\"0\""));
    let before =
        (scene.get(MOVES).text().unwrap(), scene.running.origin(), scene.running.stand_in().secret().to_owned());
    let discovery = |scene: &Scene| {
        let mut discovery: Value = scene.get("/.well-known/lantern-storefront").json().unwrap();
        assert!(discovery["now"].take().is_string(), "it says what time it is");
        discovery
    };
    let known = discovery(&scene);
    scene.restart();
    assert_eq!(
        (scene.get(MOVES).text().unwrap(), scene.running.origin(), scene.running.stand_in().secret().to_owned()),
        before
    );
    assert_eq!(discovery(&scene), known);
    // The key still gets its answer.
    let again = scene.post(MOVES, &json!({ "targets": { "linux": 1 } }), &key(1), Some("\"0\""));
    assert_eq!(again.json::<Value>().unwrap()["revision"], 1);
}

#[test]
fn hostile_documents_are_refused() {
    let scene = Scene::new();
    for body in ["", "{", "[]", "null", "{\"record\": 5}", &"[".repeat(100_000), "\u{0}"] {
        let response = scene.send(
            |r| r.header("Idempotency-Key", key(1)),
            "post",
            "/v1/titles/saltmarsh-post/builds",
            body.as_bytes().to_vec(),
        );
        problem(response, 400, "malformed");
    }
    let empty = Tree::default().id();
    let document =
        json!({ "record": format!("{{\"format\":\"lantern.release/9\",\"tree\":\"{empty}\"}}"), "depots": [] });
    problem(scene.post("/v1/titles/saltmarsh-post/builds", &document, &key(2), None), 400, "malformed");
}

#[test]
fn a_withdrawn_build_goes_on_no_branch() {
    let scene = Scene::new();
    let sealed = scene.seal("1.4.0-rc", 26, 1);
    scene.bring(&sealed);
    let path = "/v1/titles/saltmarsh-post/builds/1/withdrawal";
    let why = serde_json::json!({ "because": "a save bug" });
    let first: Value = scene.post(path, &why, &key(1), None).json().unwrap();
    assert_eq!(first["withdrawn"]["because"], "a save bug");
    let again: Value = scene.post(path, &serde_json::json!({ "because": "another" }), &key(2), None).json().unwrap();
    assert_eq!(again["withdrawn"]["because"], "a save bug", "the first word stays");
    let builds: Value = scene.get("/v1/titles/saltmarsh-post/builds").json().unwrap();
    assert_eq!(builds["builds"][0]["withdrawn"]["because"], "a save bug");
    let moves = "/v1/titles/saltmarsh-post/branches/open-water/moves";
    let wanted = serde_json::json!({ "targets": { "linux": 1 } });
    let refused = scene.post(moves, &wanted, &key(3), Some("\"0\""));
    assert_eq!(refused.status().as_u16(), 422);
    assert_eq!(refused.json::<Value>().unwrap()["refusals"][0]["rule"], "withdrawn");
    assert_eq!(scene.post("/v1/titles/saltmarsh-post/builds/9/withdrawal", &why, &key(4), None).status().as_u16(), 404);
}

#[test]
fn a_pack_comes_in_pieces_and_is_a_pack_when_all_of_it_has() {
    let scene = Scene::new();
    scene.seal("1.3.2", 25, 7);
    let name = scene.store.packs().unwrap()[0];
    let bytes = scene.store.read_pack(&name).unwrap();
    let path = format!("/v1/titles/saltmarsh-post/packs/{}", name.hex());
    let total = bytes.len();
    let send = |first: usize, last: usize, body: &[u8]| {
        let range = format!("bytes {first}-{last}/{total}");
        scene.send(|r| r.header("Content-Range", range), "put", &path, body.to_vec())
    };
    let received = || scene.get(&format!("{path}/received")).json::<Value>().unwrap();
    assert_eq!(received(), json!({ "received": 0, "whole": false }));
    let half = total / 2;
    let first = send(0, half - 1, &bytes[..half]);
    assert_eq!(first.status(), StatusCode::ACCEPTED);
    assert_eq!(received(), json!({ "received": half, "whole": false }));
    // Too far on, another length than is said, and a piece that came before.
    problem(send(half + 1, total - 1, &bytes[half + 1..]), 409, "wrong-offset");
    problem(send(half, total - 1, &bytes[half + 1..]), 400, "malformed");
    assert_eq!(send(0, half - 1, &bytes[..half]).status(), StatusCode::ACCEPTED);
    let last = send(half - 2, total - 1, &bytes[half - 2..]);
    assert_eq!(last.status(), StatusCode::OK);
    assert_eq!(received(), json!({ "received": total, "whole": true }));
    // What is not what it is named is no pack, and can be sent again from the beginning.
    let other = Digest::of(b"another");
    let path = format!("/v1/titles/saltmarsh-post/packs/{}", other.hex());
    let range = format!("bytes 0-{}/{total}", total - 1);
    problem(scene.send(|r| r.header("Content-Range", range), "put", &path, bytes.clone()), 422, "damaged");
    assert_eq!(scene.get(&format!("{path}/received")).json::<Value>().unwrap()["received"], 0);
}

#[test]
fn lists_have_pages() {
    let scene = Scene::new();
    for number in 1..=3 {
        let sealed = scene.seal(&format!("1.3.{number}"), 24 + number, 7);
        scene.bring_recipe(&sealed);
        scene.bring_packs();
        let path = "/v1/titles/saltmarsh-post/builds";
        assert_eq!(scene.post(path, &sealed.document("sp-linux"), &key(number), None).status(), StatusCode::CREATED);
    }
    let builds = |query: &str| scene.get(&format!("/v1/titles/saltmarsh-post/builds{query}")).json::<Value>().unwrap();
    let numbers = |page: &Value| -> Vec<u64> {
        page["builds"].as_array().unwrap().iter().map(|b| b["number_there"].as_u64().unwrap()).collect()
    };
    let first = builds("?limit=2");
    assert_eq!((numbers(&first), &first["next"]), (vec![1, 2], &json!("2")));
    let last = builds("?after=2&limit=2");
    assert_eq!((numbers(&last), last.get("next")), (vec![3], None));
    problem(scene.get("/v1/titles/saltmarsh-post/builds?after=moon"), 400, "malformed");
    problem(scene.get("/v1/titles/saltmarsh-post/builds?limit=0"), 400, "malformed");
}

#[test]
fn titles_have_the_names_that_they_have() {
    let scene = Scene::new();
    let title = json!({ "handle": "Salt/Marsh: Post 潮", "name": "Saltmarsh Post",
        "identity": "example.paperheron.saltmarsh", "depots": ["Depot 1"] });
    assert_eq!(scene.post("/v1/titles", &title, &key(1), None).status(), StatusCode::CREATED);
    let found: Value = scene.get("/v1/titles/Salt%2FMarsh%3A%20Post%20%E6%BD%AE").json().unwrap();
    assert_eq!(found, title);
}

#[test]
fn numbers_that_no_database_holds_are_no_failure() {
    let scene = Scene::new();
    let huge = u64::MAX;
    problem(scene.get(&format!("/v1/titles/saltmarsh-post/builds/{huge}/record")), 400, "malformed");
    let path = format!("/v1/titles/saltmarsh-post/builds/{huge}/withdrawal");
    problem(scene.post(&path, &json!({ "because": "why" }), &key(1), None), 400, "malformed");
    problem(scene.get(&format!("/v1/titles/saltmarsh-post/events?after={huge}")), 400, "malformed");
    let to = json!({ "targets": { "linux": huge } });
    assert!(scene.post(MOVES, &to, &key(2), Some("\"0\"")).status().is_client_error());
    assert!(
        scene.post(MOVES, &json!({ "targets": {} }), &key(3), Some(&format!("\"{huge}\""))).status().is_client_error()
    );
}
