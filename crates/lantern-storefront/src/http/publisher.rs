//! What those who make the game ask, with access.

use std::sync::atomic::Ordering;
use std::time::Instant;

use bytes::Bytes;
use lantern_core::digest::{Digest, InvitationId, RecipeId};
use lantern_core::event::EventId;
use lantern_core::limits::{MAX_LOCATOR_LEN, MAX_ROOT_LEN, MAX_SEGMENT_LEN};
use lantern_core::names::{Handle, Name, percent_encoded};
use lantern_core::release::MAX_RECORD_LEN;
use lantern_core::rules::HouseRules;
use reqwest::Method;
use reqwest::header::{CONTENT_RANGE, IF_MATCH, RANGE};
use serde::Serialize;
use serde::de::DeserializeOwned;

use super::{HttpStorefront, MAX_JSON_LEN, bytes_of};
use crate::protocol::{
    Branch, BranchList, Build, BuildPage, Discovery, IDEMPOTENCY_KEY, InvitationMade, InvitationPage, Move, MovePage,
    Moved, NewBuild, NewInvitation, PIECES, PackReceived, REBUILDS, RecipeNeeds, Title, UPDATES, Withdraw, problem,
};
use crate::{
    Branches, Builds, Content, Identify, Invitations, Player, Storefront, StorefrontError, StorefrontFacts, Upload,
};

/// Most entries that are read of a list, over all its pages.
const MAX_LISTED: usize = 1_000_000;
/// Most bytes that are sent in one request, to a storefront that takes no pieces. Ours: they are held in memory.
const MAX_AT_ONCE: usize = 256 * 1024 * 1024;

impl HttpStorefront {
    fn get<T: DeserializeOwned>(&self, path: &str, what: &'static str) -> Result<T, StorefrontError> {
        let ask = || self.with_access(&|| self.client.get(self.url(path)));
        self.json(&self.whole(MAX_JSON_LEN, &ask)?, what)
    }

    fn get_bytes(&self, path: &str, limit: u64) -> Result<Vec<u8>, StorefrontError> {
        self.whole(limit, &|| self.with_access(&|| self.client.get(self.url(path))))
    }

    /// Reads all pages of a list.
    fn pages<T: DeserializeOwned, I>(
        &self,
        path: &str,
        what: &'static str,
        open: impl Fn(T) -> (Vec<I>, Option<String>),
    ) -> Result<Vec<I>, StorefrontError> {
        let mut all = Vec::new();
        let mut after: Option<String> = None;
        loop {
            let query = after.as_ref().map_or_else(String::new, |after| format!("?after={}", percent_encoded(after)));
            let (page, next) = open(self.get(&format!("{path}{query}"), what)?);
            let is_empty = page.is_empty();
            all.extend(page);
            let Some(next) = next else { return Ok(all) };
            if is_empty || all.len() > MAX_LISTED || Some(&next) == after.as_ref() {
                return Err(self.nonsense(what, "its pages have no end"));
            }
            after = Some(next);
        }
    }

    /// Sends something in pieces that the line brings in a few seconds each; goes on behind what has come already.
    fn put_pieces(&self, path: &str, upload: &dyn Upload, on: &dyn Fn(u64)) -> Result<(), StorefrontError> {
        let total = upload.size();
        let mut offset = self.received(path)?.min(total);
        if offset == total {
            offset = 0;
        }
        loop {
            let len = usize::try_from(total - offset).unwrap_or(usize::MAX).min(self.pace.piece());
            let piece = self.piece(upload, offset, len)?;
            let (first, last) = (offset, offset + len.max(1) as u64 - 1);
            let make = || {
                let request = self.client.put(self.url(path)).body(piece.clone());
                request.header(CONTENT_RANGE, format!("bytes {first}-{last}/{total}"))
            };
            let started = Instant::now();
            let answer = match self.whole(MAX_JSON_LEN, &|| self.with_access(&make)) {
                // A try that was thought to be lost had come.
                Err(error) if error.is(problem::WRONG_OFFSET) => {
                    offset = self.received(path)?.min(first);
                    continue;
                }
                other => other?,
            };
            self.pace.took(len, started.elapsed());
            if answer.is_empty() {
                on(total - first);
                return Ok(());
            }
            let PackReceived { received, whole, .. } = self.json(&answer, "an answer about a pack")?;
            if whole {
                on(total - first);
                return Ok(());
            }
            if received <= first || received > total {
                return Err(self.nonsense("an answer about a pack", "it has not got further"));
            }
            on(received - first);
            offset = received;
        }
    }

    fn piece(&self, upload: &dyn Upload, offset: u64, len: usize) -> Result<Bytes, StorefrontError> {
        let failed = |source| StorefrontError::NotRead { address: self.origin.clone(), source };
        upload.piece(offset, len).map_err(failed)
    }

    /// Whether the storefront can do something that not every one can.
    fn can(&self, capability: &str) -> Result<bool, StorefrontError> {
        Ok(self.discovery()?.capabilities.iter().any(|word| word == capability))
    }

    /// Sends what may take longer than a line stays.
    fn put_large(&self, path: &str, upload: &dyn Upload, on: &dyn Fn(u64)) -> Result<(), StorefrontError> {
        let total = upload.size();
        if total > self.pace.piece() as u64 && self.can(PIECES)? {
            return self.put_pieces(path, upload, on);
        }
        let len = usize::try_from(total).ok().filter(|len| *len <= MAX_AT_ONCE);
        let len = len.ok_or_else(|| StorefrontError::NoPieces { address: self.origin.clone() })?;
        let bytes = self.piece(upload, 0, len)?;
        let started = Instant::now();
        self.put_bytes(path, bytes)?;
        self.pace.took(len, started.elapsed());
        on(total);
        Ok(())
    }

    fn received(&self, path: &str) -> Result<u64, StorefrontError> {
        match self.get::<PackReceived>(&format!("{path}/received"), "an answer about a pack") {
            Ok(at) => Ok(at.received),
            Err(error) if error.is(problem::NOT_FOUND) => Ok(0),
            Err(error) => Err(error),
        }
    }

    /// Sends bytes that are cheap to clone: a try again must not copy a whole pack.
    fn put_bytes(&self, path: &str, bytes: impl Into<Bytes>) -> Result<Vec<u8>, StorefrontError> {
        let body = bytes.into();
        let make = || self.client.put(self.url(path)).body(body.clone());
        self.whole(MAX_JSON_LEN, &|| self.with_access(&make))
    }

    fn post<T: DeserializeOwned>(
        &self,
        path: &str,
        key: EventId,
        revision: Option<u64>,
        document: &impl Serialize,
        what: &'static str,
    ) -> Result<T, StorefrontError> {
        let make = || {
            let request = self.client.request(Method::POST, self.url(path)).json(document);
            let request = request.header(IDEMPOTENCY_KEY, key.to_string());
            match revision {
                Some(revision) => request.header(IF_MATCH, format!("\"{revision}\"")),
                None => request,
            }
        };
        self.json(&self.whole(MAX_JSON_LEN, &|| self.with_access(&make))?, what)
    }
}

impl Storefront for HttpStorefront {
    fn content(&self) -> Result<&dyn Content, StorefrontError> {
        Ok(self)
    }

    fn builds(&self) -> Result<&dyn Builds, StorefrontError> {
        Ok(self)
    }

    fn branches(&self) -> Result<&dyn Branches, StorefrontError> {
        Ok(self)
    }

    fn invitations(&self) -> Result<&dyn Invitations, StorefrontError> {
        Ok(self)
    }

    fn player(&self) -> Result<&dyn Player, StorefrontError> {
        Ok(self)
    }
}

impl Identify for HttpStorefront {
    fn address(&self) -> &str {
        &self.origin
    }

    fn be_patient(&self) {
        self.is_patient.store(true, Ordering::Relaxed);
    }

    fn identify(&self) -> Result<StorefrontFacts, StorefrontError> {
        let Discovery { id, name, now, .. } = self.discovery()?.clone();
        Ok(StorefrontFacts { id, name, now })
    }

    fn try_access(&self) -> Result<Vec<String>, StorefrontError> {
        Ok(self.fresh_token()?.scope.split_whitespace().map(str::to_owned).collect())
    }

    fn rules(&self) -> Result<HouseRules, StorefrontError> {
        self.get("/v1/rules", "house rules")
    }

    fn title(&self, title: &Handle) -> Result<Title, StorefrontError> {
        self.get(&format!("/v1/titles/{}", title.in_path()), "a title")
    }
}

impl Content for HttpStorefront {
    fn put_recipe(&self, title: &Handle, id: RecipeId, root: Vec<u8>) -> Result<RecipeNeeds, StorefrontError> {
        let answer = self.put_bytes(&format!("/v1/titles/{}/recipes/{}", title.in_path(), id.0.hex()), root)?;
        self.json(&answer, "an answer about a recipe")
    }

    fn put_segment(&self, title: &Handle, digest: &Digest, bytes: Vec<u8>) -> Result<(), StorefrontError> {
        self.put_bytes(&format!("/v1/titles/{}/segments/{}", title.in_path(), digest.hex()), bytes).map(|_| ())
    }

    fn put_pack(&self, title: &Handle, digest: &Digest, bytes: Bytes) -> Result<(), StorefrontError> {
        self.put_large(&format!("/v1/titles/{}/packs/{}", title.in_path(), digest.hex()), &bytes, &|_| {})
    }

    fn takes_updates(&self) -> Result<bool, StorefrontError> {
        self.can(UPDATES)
    }

    fn rebuilds(&self) -> Result<bool, StorefrontError> {
        self.can(REBUILDS)
    }

    fn put_update(
        &self,
        title: &Handle,
        (from, to): (RecipeId, RecipeId),
        update: &dyn Upload,
        on: &dyn Fn(u64),
    ) -> Result<(), StorefrontError> {
        self.put_large(&format!("/v1/titles/{}/updates/{}/{}", title.in_path(), from.0.hex(), to.0.hex()), update, on)
    }

    fn get_recipe(&self, title: &Handle, id: RecipeId) -> Result<Vec<u8>, StorefrontError> {
        self.get_bytes(&format!("/v1/titles/{}/recipes/{}", title.in_path(), id.0.hex()), MAX_ROOT_LEN)
    }

    fn get_segment(&self, title: &Handle, digest: &Digest) -> Result<Vec<u8>, StorefrontError> {
        self.get_bytes(&format!("/v1/titles/{}/segments/{}", title.in_path(), digest.hex()), MAX_SEGMENT_LEN)
    }

    fn get_locator(&self, title: &Handle, segment: &Digest) -> Result<Vec<u8>, StorefrontError> {
        self.get_bytes(&format!("/v1/titles/{}/locators/{}", title.in_path(), segment.hex()), MAX_LOCATOR_LEN)
    }

    fn get_pack(&self, title: &Handle, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, StorefrontError> {
        let url = self.url(&format!("/v1/titles/{}/packs/{}", title.in_path(), pack.hex()));
        let make = || self.client.get(&url).header(RANGE, bytes_of(offset, len));
        self.whole(u64::from(len), &|| self.part(self.with_access(&make)?, true))
    }
}

impl Builds for HttpStorefront {
    fn list(&self, title: &Handle) -> Result<Vec<Build>, StorefrontError> {
        let path = format!("/v1/titles/{}/builds", title.in_path());
        self.pages(&path, "a list of builds", |page: BuildPage| (page.builds, page.next))
    }

    fn record(&self, title: &Handle, build: u64) -> Result<Vec<u8>, StorefrontError> {
        self.whole(MAX_RECORD_LEN, &|| {
            self.with_access(&|| {
                self.client.get(self.url(&format!("/v1/titles/{}/builds/{build}/record", title.in_path())))
            })
        })
    }

    fn make(&self, title: &Handle, key: EventId, build: &NewBuild) -> Result<Build, StorefrontError> {
        self.post(&format!("/v1/titles/{}/builds", title.in_path()), key, None, build, "a build")
    }

    fn withdraw(&self, title: &Handle, build: u64, key: EventId, why: &Withdraw) -> Result<Build, StorefrontError> {
        self.post(&format!("/v1/titles/{}/builds/{build}/withdrawal", title.in_path()), key, None, why, "a build")
    }
}

impl Branches for HttpStorefront {
    fn list(&self, title: &Handle) -> Result<Vec<Branch>, StorefrontError> {
        let path = format!("/v1/titles/{}/branches", title.in_path());
        Ok(self.get::<BranchList>(&path, "a list of branches")?.branches)
    }

    fn moves(&self, title: &Handle, branch: &Name) -> Result<Vec<Moved>, StorefrontError> {
        let path = format!("/v1/titles/{}/branches/{}/moves", title.in_path(), self.branch_in_path(branch));
        self.pages(&path, "a branch's history", |page: MovePage| (page.moves, page.next))
    }

    fn make_move(
        &self,
        title: &Handle,
        branch: &Name,
        revision: u64,
        key: EventId,
        wanted: &Move,
    ) -> Result<Branch, StorefrontError> {
        let path = format!("/v1/titles/{}/branches/{}/moves", title.in_path(), self.branch_in_path(branch));
        self.post(&path, key, Some(revision), wanted, "a branch")
    }
}

impl Invitations for HttpStorefront {
    fn list(&self, title: &Handle, branch: &Name) -> Result<Vec<InvitationMade>, StorefrontError> {
        let path = format!("/v1/titles/{}/branches/{}/invitations", title.in_path(), self.branch_in_path(branch));
        let open = |page: InvitationPage| (page.invitations, page.next);
        self.pages(&path, "a list of invitations", open)
    }

    fn invite(
        &self,
        title: &Handle,
        branch: &Name,
        key: EventId,
        invitation: &NewInvitation,
    ) -> Result<InvitationMade, StorefrontError> {
        let path = format!("/v1/titles/{}/branches/{}/invitations", title.in_path(), self.branch_in_path(branch));
        self.post(&path, key, None, invitation, "an invitation")
    }

    fn end(
        &self,
        title: &Handle,
        branch: &Name,
        key: EventId,
        id: InvitationId,
    ) -> Result<InvitationMade, StorefrontError> {
        let (title, branch) = (title.in_path(), self.branch_in_path(branch));
        let path = format!("/v1/titles/{title}/branches/{branch}/invitations/{}/end", id.0.hex());
        self.post(&path, key, None, &serde_json::json!({}), "an invitation")
    }
}
