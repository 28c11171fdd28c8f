//! What a player's machine asks, without access.

use std::sync::atomic::Ordering;

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::limits::{MAX_LOCATOR_LEN, MAX_ROOT_LEN, MAX_SEGMENT_LEN};
use lantern_core::names::{Handle, Name};
use reqwest::blocking::Response;
use reqwest::header::{LOCATION, RANGE};

use super::{HttpStorefront, MAX_JSON_LEN, bytes_of};
use crate::protocol::{FOLDER, INVITATION, Play, problem};
use crate::{Player, StorefrontError};

/// How often a player's request is sent on to another address.
const MAX_REDIRECTS: usize = 3;

/// What of a player's part is asked for, and how long it can be at most.
#[derive(Debug, Clone, Copy)]
struct Asked {
    range: Option<(u32, u32)>,
    limit: u64,
}

impl Asked {
    const fn whole(limit: u64) -> Self {
        Self { range: None, limit }
    }
}

impl HttpStorefront {
    /// Asks as a player does: without access, with the invitation that was given. Where that is refused, those who make the
    /// game ask with their access.
    fn play_bytes(&self, path: &str, asked: Asked) -> Result<Vec<u8>, StorefrontError> {
        if !self.plays_as_maker.load(Ordering::Relaxed) {
            let refused = match self.play_once(path, asked, false) {
                Err(error) if is_for_others(&error) && self.opening.access.is_some() => error,
                other => return other,
            };
            log::info!("asking with access: {refused}");
        }
        let bytes = self.play_once(path, asked, true)?;
        self.plays_as_maker.store(true, Ordering::Relaxed);
        Ok(bytes)
    }

    fn play_once(&self, path: &str, asked: Asked, as_maker: bool) -> Result<Vec<u8>, StorefrontError> {
        let Asked { range, limit } = asked;
        let make = || {
            let mut request = self.client.get(self.url(path));
            if let Some(invited) = self.opening.invited.as_ref().filter(|_| !as_maker) {
                request = request.header(INVITATION, invited.invitation.reveal()).header(FOLDER, &invited.folder);
            }
            match range {
                Some((offset, len)) => request.header(RANGE, bytes_of(offset, len)),
                None => request,
            }
        };
        let ask = || {
            let response = if as_maker { self.with_access(&make)? } else { self.send(&|| Ok(make()))? };
            let response = self.follow(response, range)?;
            self.part(response, range.is_some())
        };
        self.whole(limit, &ask)
    }

    /// Goes where a player's request is sent on to, such as another host that has the content. Neither access nor invitation
    /// goes there, and nothing is believed that came from there: every part is compared with its digest.
    fn follow(&self, mut response: Response, range: Option<(u32, u32)>) -> Result<Response, StorefrontError> {
        let mut from = response.url().clone();
        for _ in 0..=MAX_REDIRECTS {
            let is_redirect = matches!(response.status().as_u16(), 302 | 303 | 307 | 308);
            let to = response.headers().get(LOCATION).filter(|_| is_redirect).and_then(|v| v.to_str().ok());
            let Some(to) = to else { return Ok(response) };
            let wrong = |why: &str| self.nonsense("a part of a build", why.to_owned());
            let to = from.join(to).map_err(|e| self.nonsense("an address to go on to", e))?;
            let is_http = to.scheme() == "http" && from.scheme() == "http";
            if to.scheme() != "https" && !is_http {
                return Err(wrong("it is sent on to an address that is not safe"));
            }
            let client = self.client_of(&to)?;
            let make = || match range {
                Some((offset, len)) => client.get(to.clone()).header(RANGE, bytes_of(offset, len)),
                None => client.get(to.clone()),
            };
            response = self.send(&|| Ok(make()))?;
            from = to;
        }
        Err(self.nonsense("a part of a build", "it is sent on from one address to the next"))
    }
}

/// Whether a refusal says that this is not for everybody.
fn is_for_others(error: &StorefrontError) -> bool {
    [problem::NOT_INVITED, problem::NOT_OWNED, problem::NO_RIGHT].iter().any(|kind| error.is(*kind))
}

impl Player for HttpStorefront {
    fn branch(&self, title: &Handle, branch: &Name) -> Result<Play, StorefrontError> {
        let path = format!("/v1/play/{}/{}", title.in_path(), self.branch_in_path(branch));
        let bytes = self.play_bytes(&path, Asked::whole(MAX_JSON_LEN))?;
        self.json(&bytes, "a branch for players")
    }

    fn recipe(&self, title: &Handle, branch: &Name, id: RecipeId) -> Result<Vec<u8>, StorefrontError> {
        let path = format!("/v1/play/{}/{}/recipes/{}", title.in_path(), self.branch_in_path(branch), id.0.hex());
        self.play_bytes(&path, Asked::whole(MAX_ROOT_LEN))
    }

    fn segment(&self, title: &Handle, branch: &Name, digest: &Digest) -> Result<Vec<u8>, StorefrontError> {
        let path = format!("/v1/play/{}/{}/segments/{}", title.in_path(), self.branch_in_path(branch), digest.hex());
        self.play_bytes(&path, Asked::whole(MAX_SEGMENT_LEN))
    }

    fn locator(&self, title: &Handle, branch: &Name, segment: &Digest) -> Result<Vec<u8>, StorefrontError> {
        let path = format!("/v1/play/{}/{}/locators/{}", title.in_path(), self.branch_in_path(branch), segment.hex());
        self.play_bytes(&path, Asked::whole(MAX_LOCATOR_LEN))
    }

    fn pack(
        &self,
        title: &Handle,
        branch: &Name,
        pack: &Digest,
        offset: u32,
        len: u32,
    ) -> Result<Vec<u8>, StorefrontError> {
        let path = format!("/v1/play/{}/{}/packs/{}", title.in_path(), self.branch_in_path(branch), pack.hex());
        self.play_bytes(&path, Asked { range: Some((offset, len)), limit: u64::from(len) })
    }

    fn give_back(&self, memory: Vec<u8>) {
        self.spare.give(memory);
    }

    fn update(
        &self,
        title: &Handle,
        branch: &Name,
        (from, to): (RecipeId, RecipeId),
        offset: u32,
        len: u32,
    ) -> Result<Vec<u8>, StorefrontError> {
        let (title, branch) = (title.in_path(), self.branch_in_path(branch));
        let path = format!("/v1/play/{title}/{branch}/updates/{}/{}", from.0.hex(), to.0.hex());
        self.play_bytes(&path, Asked { range: Some((offset, len)), limit: u64::from(len) })
    }
}
