//! A running stand-in with a title, and sealed builds to bring.

use std::io::{self, Read};

use lantern_core::choices::{Choices, Players};
use lantern_core::digest::{Digest, RecipeId};
use lantern_core::names::Name;
use lantern_core::path::TreePath;
use lantern_core::progress::Silent;
use lantern_core::release::{DepotRecord, FORMAT, ReleaseRecord, Start, TargetRecord};
use lantern_core::rules::NumberRule;
use lantern_core::system::System;
use lantern_core::version::BuildNumber;
use lantern_rehearsal::server::Running;
use lantern_rehearsal::stand_in::{StandIn, StandInDocument};
use lantern_store::seal::{Source, SourceEntry, SourceKind, seal};
use lantern_store::store::Store;
use lantern_storefront::protocol::Title;
use reqwest::blocking::{Client, RequestBuilder, Response};
use serde_json::{Value, json};

/// Brambleyard with everybody's line alone, which waits for no other, and with numbers that must rise.
fn one_line() -> StandInDocument {
    let mut document = StandInDocument::brambleyard();
    document.rules.numbers.number = NumberRule::MustRise;
    document.rules.branches.fixed.retain(|branch| branch.name.as_str() == "open-water");
    document.rules.branches.fixed.iter_mut().for_each(|branch| branch.carried = None);
    document
}

pub struct Scene {
    pub temp: tempfile::TempDir,
    pub running: Running,
    pub client: Client,
    pub store: Store,
    token: String,
}

pub struct Sealed {
    pub recipe: RecipeId,
    pub chunks: usize,
    pub record: ReleaseRecord,
}

impl Sealed {
    pub fn document(&self, handle: &str) -> Value {
        json!({
            "record": String::from_utf8(self.record.encode()).unwrap(),
            "depots": [{ "depot": "linux", "handle": handle, "recipe": self.recipe }],
            "message": "for us",
        })
    }
}

/// An idempotency key of a number.
pub fn key(n: u64) -> String {
    format!("01a207a2-3280-7000-8000-{n:012x}")
}

/// One file of bytes that follow from a seed; the first 200,000 are the same for all.
struct Noise(u64);

impl Noise {
    fn bytes(&self) -> Vec<u8> {
        let mut out = vec![0; 200_000];
        blake3::Hasher::new().finalize_xof().fill(&mut out);
        let mut own = vec![0; 200_000];
        blake3::Hasher::new().update(&self.0.to_le_bytes()).finalize_xof().fill(&mut own);
        out.append(&mut own);
        out
    }
}

impl Source for Noise {
    fn open(&self, _: usize) -> io::Result<Box<dyn Read + '_>> {
        Ok(Box::new(io::Cursor::new(self.bytes())))
    }
    fn is_executable(&self, _: usize, _: &[u8]) -> bool {
        true
    }
    fn is_unchanged(&self, _: usize) -> io::Result<bool> {
        Ok(true)
    }
}

impl Scene {
    pub fn new() -> Self {
        Self::with(one_line())
    }

    pub fn with(document: StandInDocument) -> Self {
        let temp = tempfile::tempdir().unwrap();
        let stand_in = StandIn::open(&temp.path().join("storefront"), document).unwrap();
        let title = Title {
            handle: "saltmarsh-post".parse().unwrap(),
            name: "Saltmarsh Post".into(),
            identity: "example.paperheron.saltmarsh".parse().unwrap(),
            depots: vec!["sp-linux".parse().unwrap()],
        };
        stand_in.make_title(&title).unwrap();
        let store = Store::at(temp.path().join("store"));
        let running = Running::start(stand_in, 0).unwrap();
        let client = Client::builder().no_proxy().build().unwrap();
        let mut scene = Self { temp, running, client, store, token: String::new() };
        scene.renew_token();
        scene
    }

    fn renew_token(&mut self) {
        let secret = self.running.stand_in().secret().to_owned();
        let form = [("grant_type", "client_credentials"), ("client_id", "paper-heron"), ("client_secret", &secret)];
        let token: Value = self.client.post(self.url("/v1/token")).form(&form).send().unwrap().json().unwrap();
        self.token = token["access_token"].as_str().unwrap().to_owned();
    }

    /// Ends the stand-in and opens it again from its folder, on the port it remembers.
    pub fn restart(&mut self) {
        let spare = StandIn::open(&self.temp.path().join("spare"), one_line()).unwrap();
        drop(std::mem::replace(&mut self.running, Running::start(spare, 0).unwrap()));
        let stand_in = StandIn::open(&self.temp.path().join("storefront"), one_line()).unwrap();
        let port = stand_in.last_port().unwrap();
        self.running = Running::start(stand_in, port).unwrap();
        self.renew_token();
    }

    pub fn url(&self, path: &str) -> String {
        format!("{}{path}", self.running.origin())
    }

    pub fn request(&self, method: &str, path: &str, access: Option<&str>, body: Vec<u8>) -> Response {
        let method = method.to_uppercase().parse().unwrap();
        let request = self.client.request(method, self.url(path)).body(body);
        let request = match access {
            Some(access) => request.header("Authorization", access),
            None => request,
        };
        request.send().unwrap()
    }

    /// A request as a player's machine makes it, without access.
    pub fn request_of_player(&self, method: &str, path: &str, headers: &[(&str, &str)]) -> Response {
        let request = self.client.request(method.to_uppercase().parse().unwrap(), self.url(path));
        headers.iter().fold(request, |request, (name, value)| request.header(*name, *value)).send().unwrap()
    }

    pub fn send(
        &self,
        change: impl FnOnce(RequestBuilder) -> RequestBuilder,
        method: &str,
        path: &str,
        body: Vec<u8>,
    ) -> Response {
        let method = method.to_uppercase().parse().unwrap();
        let request = self.client.request(method, self.url(path)).bearer_auth(&self.token).body(body);
        change(request).send().unwrap()
    }

    pub fn get(&self, path: &str) -> Response {
        self.send(|r| r, "get", path, Vec::new())
    }

    pub fn put(&self, path: &str, body: Vec<u8>) -> Response {
        self.send(|r| r, "put", path, body)
    }

    pub fn post(&self, path: &str, body: &Value, key: &str, condition: Option<&str>) -> Response {
        let change = |request: RequestBuilder| {
            let request = request.header("Idempotency-Key", key);
            match condition {
                Some(condition) => request.header("If-Match", condition),
                None => request,
            }
        };
        self.send(change, "post", path, body.to_string().into_bytes())
    }

    pub fn seal(&self, version: &str, number: u64, seed: u64) -> Sealed {
        let entries = [SourceEntry { path: TreePath::new("game").unwrap(), kind: SourceKind::File { size: 400_000 } }];
        let sealed = seal(&self.store, &entries, &Noise(seed), &Silent).unwrap();
        let depot: Name = "linux".parse().unwrap();
        let record = ReleaseRecord {
            format: FORMAT.to_owned(),
            game: "example.paperheron.saltmarsh".parse().unwrap(),
            edition: Name::full_edition(),
            version: version.parse().unwrap(),
            number: BuildNumber::new(number).unwrap(),
            targets: vec![TargetRecord {
                target: depot.clone(),
                systems: vec![System::LinuxX86_64],
                starts: vec![Start::of(TreePath::new("game").unwrap())],
                folder: None,
                tree: sealed.id,
                depots: vec![DepotRecord {
                    depot,
                    tree: sealed.id,
                    files: 1,
                    size: 400_000,
                    players: Players::default(),
                }],
                choices: Choices::new(),
                aside: None,
                claims: Default::default(),
                changed: None,
                unsigned: false,
            }],
        };
        let (_, entries) = self.store.recipe(sealed.recipe).unwrap();
        let chunks: std::collections::HashSet<Digest> = entries[0].chunks.iter().map(|c| c.digest).collect();
        Sealed { recipe: sealed.recipe, chunks: chunks.len(), record }
    }

    pub fn bring_segments(&self, sealed: &Sealed) {
        let (root, _) = self.store.recipe(sealed.recipe).unwrap();
        for segment in root.segments {
            let path = format!("/v1/titles/saltmarsh-post/segments/{}", segment.digest.hex());
            assert!(self.put(&path, self.store.segment_bytes(&segment.digest).unwrap()).status().is_success());
        }
    }

    pub fn bring_recipe(&self, sealed: &Sealed) {
        let path = format!("/v1/titles/saltmarsh-post/recipes/{}", sealed.recipe.0.hex());
        assert!(self.put(&path, self.store.recipe_bytes(sealed.recipe).unwrap()).status().is_success());
        self.bring_segments(sealed);
    }

    pub fn bring_packs(&self) {
        for pack in self.store.packs().unwrap() {
            let path = format!("/v1/titles/saltmarsh-post/packs/{}", pack.hex());
            let response = self.put(&path, self.store.read_pack(&pack).unwrap());
            assert!(response.status().is_success(), "{}", response.text().unwrap());
        }
    }

    pub fn bring(&self, sealed: &Sealed) {
        self.bring_recipe(sealed);
        self.bring_packs();
        let path = "/v1/titles/saltmarsh-post/builds";
        let response = self.post(path, &sealed.document("sp-linux"), &key(900_000 + sealed.chunks as u64), None);
        assert!(response.status().is_success(), "{}", response.text().unwrap());
    }
}
