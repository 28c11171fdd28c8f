//! Every endpoint of the protocol, in one table.

use std::sync::Arc;

use lantern_core::release::ReleaseRecord;
use lantern_core::rules::HouseRules;
use lantern_storefront::protocol::{
    Branch, BranchList, Build, BuildPage, DISCOVERY_PATH, Discovery, IDEMPOTENCY_KEY, InvitationMade, InvitationPage,
    Move, MovePage, NewBuild, NewInvitation, PackReceived, Play, RecipeNeeds, StorefrontEvents, Title, TitlePage,
    Token, TokenError, Withdraw,
};

use super::{about, branches, builds, content, invitations, players, titles};
use crate::api::{Api, Body, Endpoint};
use crate::stand_in::StandIn;

/// Returns the table; with a storefront, its endpoints ask for access.
pub(super) fn api(stand_in: Option<Arc<StandIn>>) -> Api {
    let open = |summary, gives| Endpoint {
        summary,
        scope: None,
        takes: Body::Nothing,
        gives,
        headers: &[],
        may: &[],
        query: &[],
        status: 200,
        also: &[],
        answers: &[],
        error: None,
        is_for_players: false,
    };
    let play_of = |summary, gives| Endpoint { is_for_players: true, ..open(summary, gives) };
    let range: &[&str] = &["Range"];
    let part_of = |endpoint: Endpoint| Endpoint {
        headers: range,
        status: 206,
        also: &[(416, "The range begins behind the end")],
        answers: &["Content-Range"],
        ..endpoint
    };
    let read = |summary, gives| Endpoint { scope: Some("read"), ..open(summary, gives) };
    let list = |summary, gives| Endpoint { query: &["after", "limit"], ..read(summary, gives) };
    let send = |summary, takes, gives| Endpoint { scope: Some("send"), takes, ..open(summary, gives) };
    let key: &[&str] = &[IDEMPOTENCY_KEY];
    let action =
        |scope, summary, takes, gives| Endpoint { scope: Some(scope), takes, headers: key, ..open(summary, gives) };
    Api::new(stand_in)
        .get(DISCOVERY_PATH, open("What this storefront is", Body::json::<Discovery>()), about::discovery)
        .post(
            "/v1/token",
            Endpoint {
                takes: Body::Form(&["grant_type", "client_id", "client_secret"]),
                error: Some(|generator| generator.subschema_for::<TokenError>().to_value()),
                ..open("An access token (RFC 6749, section 4.4)", Body::json::<Token>())
            },
            about::token,
        )
        .get(
            "/v1/rules",
            Endpoint {
                may: &["If-None-Match"],
                also: &[(304, "They are those of the ETag")],
                answers: &["ETag"],
                ..read("The house rules; cache them by ETag", Body::json::<HouseRules>())
            },
            about::rules,
        )
        .get("/v1/titles", list("Your titles", Body::json::<TitlePage>()), titles::titles)
        .post(
            "/v1/titles",
            Endpoint {
                status: 201,
                ..action("setup", "Makes a title, or adds depots to it", Body::json::<Title>(), Body::json::<Title>())
            },
            titles::make_title,
        )
        .get("/v1/titles/{title}", read("A title", Body::json::<Title>()), titles::title)
        .put(
            "/v1/titles/{title}/recipes/{recipe}",
            send("Brings a recipe's root; returns what is missing", Body::Bytes("A root"), Body::json::<RecipeNeeds>()),
            content::put_recipe,
        )
        .get("/v1/titles/{title}/recipes/{recipe}", read("A recipe's root", Body::Bytes("A root")), content::get_recipe)
        .put(
            "/v1/titles/{title}/segments/{segment}",
            Endpoint { status: 204, ..send("Brings a segment of a recipe", Body::Bytes("A segment"), Body::Nothing) },
            content::put_segment,
        )
        .get("/v1/titles/{title}/segments/{segment}", read("A segment", Body::Bytes("A segment")), content::get_segment)
        .put(
            "/v1/titles/{title}/packs/{pack}",
            Endpoint {
                may: &["Content-Range"],
                also: &[(202, "The piece has come, and more is to come"), (204, "All of it came at once")],
                ..send(
                    "Brings a pack, or by Content-Range a piece of one; every chunk in it is checked",
                    Body::Bytes("A pack"),
                    Body::json::<PackReceived>(),
                )
            },
            content::put_pack,
        )
        .get(
            "/v1/titles/{title}/packs/{pack}/received",
            Endpoint {
                scope: Some("send"),
                ..open("How much of a pack has come in pieces", Body::json::<PackReceived>())
            },
            content::pack_received,
        )
        .put(
            "/v1/titles/{title}/updates/{from}/{to}",
            Endpoint {
                may: &["Content-Range"],
                also: &[(202, "The piece has come, and more is to come"), (204, "All of it came at once")],
                ..send(
                    "Brings an update file, or by Content-Range a piece of one; every group in it is checked",
                    Body::Bytes("An update file"),
                    Body::json::<PackReceived>(),
                )
            },
            content::put_update,
        )
        .get(
            "/v1/titles/{title}/updates/{from}/{to}/received",
            Endpoint {
                scope: Some("send"),
                ..open("How much of an update file has come in pieces", Body::json::<PackReceived>())
            },
            content::update_received,
        )
        .get(
            "/v1/titles/{title}/packs/{pack}",
            part_of(read("A Range of a pack", Body::Bytes("Bytes of a pack"))),
            content::get_pack,
        )
        .get(
            "/v1/titles/{title}/locators/{segment}",
            read("Where a segment's chunks lie", Body::Bytes("A locator")),
            content::get_locator,
        )
        .get("/v1/titles/{title}/builds", list("All builds, oldest first", Body::json::<BuildPage>()), builds::builds)
        .post(
            "/v1/titles/{title}/builds",
            Endpoint {
                status: 201,
                ..action(
                    "send",
                    "Makes a build; a release that has one already gets it",
                    Body::json::<NewBuild>(),
                    Body::json::<Build>(),
                )
            },
            builds::make_build,
        )
        .get(
            "/v1/titles/{title}/builds/{build}/record",
            read("The exact text of the release record that a build was made of", Body::json::<ReleaseRecord>()),
            builds::record,
        )
        .post(
            "/v1/titles/{title}/builds/{build}/withdrawal",
            action(
                "release",
                "Takes a build away for good: no branch can get it any more",
                Body::json::<Withdraw>(),
                Body::json::<Build>(),
            ),
            builds::withdraw_build,
        )
        .get("/v1/titles/{title}/branches", read("All branches", Body::json::<BranchList>()), branches::branches)
        .get(
            "/v1/titles/{title}/branches/{branch}",
            Endpoint {
                answers: &["ETag"],
                ..read("A branch; its ETag is the revision to send in If-Match", Body::json::<Branch>())
            },
            branches::branch,
        )
        .get(
            "/v1/titles/{title}/branches/{branch}/moves",
            list("A branch's history, oldest first", Body::json::<MovePage>()),
            branches::moves,
        )
        .post(
            "/v1/titles/{title}/branches/{branch}/moves",
            Endpoint {
                headers: &[IDEMPOTENCY_KEY, "If-Match"],
                ..action(
                    "release",
                    "Moves a branch, if it still is at the revision in If-Match",
                    Body::json::<Move>(),
                    Body::json::<Branch>(),
                )
            },
            branches::move_branch,
        )
        .get(
            "/v1/titles/{title}/branches/{branch}/invitations",
            list("All invitations to a branch, oldest first", Body::json::<InvitationPage>()),
            invitations::invitations,
        )
        .post(
            "/v1/titles/{title}/branches/{branch}/invitations",
            Endpoint {
                status: 201,
                ..action(
                    "release",
                    "Makes an invitation to a branch; one of the same id stays as it is",
                    Body::json::<NewInvitation>(),
                    Body::json::<InvitationMade>(),
                )
            },
            invitations::invite,
        )
        .post(
            "/v1/titles/{title}/branches/{branch}/invitations/{invitation}/end",
            action(
                "release",
                "Ends an invitation: from now on it lets nobody in",
                Body::Nothing,
                Body::json::<InvitationMade>(),
            ),
            invitations::end_invitation,
        )
        .get(
            "/v1/titles/{title}/events",
            Endpoint {
                query: &["after"],
                ..read("What happened after a cursor, oldest first", Body::json::<StorefrontEvents>())
            },
            titles::events,
        )
        .get(
            "/v1/play/{title}/{branch}",
            play_of("What a branch has, for players", Body::json::<Play>()),
            players::play,
        )
        .get(
            "/v1/play/{title}/{branch}/recipes/{recipe}",
            play_of("A recipe's root", Body::Bytes("A root")),
            players::play_recipe,
        )
        .get(
            "/v1/play/{title}/{branch}/segments/{segment}",
            play_of("A segment", Body::Bytes("A segment")),
            players::play_segment,
        )
        .get(
            "/v1/play/{title}/{branch}/locators/{segment}",
            play_of("Where a segment's chunks lie", Body::Bytes("A locator")),
            players::play_locator,
        )
        .get(
            "/v1/play/{title}/{branch}/packs/{pack}",
            part_of(play_of("A Range of a pack that the branch's locators name", Body::Bytes("Bytes of a pack"))),
            players::play_pack,
        )
        .get(
            "/v1/play/{title}/{branch}/updates/{from}/{to}",
            part_of(play_of("A Range of an update file", Body::Bytes("Bytes of an update file"))),
            players::play_update,
        )
        .get("/problems/{problem}", open("What a problem's type means", Body::Bytes("A sentence")), about::problem_kind)
}
