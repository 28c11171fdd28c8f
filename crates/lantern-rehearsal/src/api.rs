//! The endpoints, each stated once: path, method, words and types. The router and the OpenAPI 3.1 document are both made
//! of this one table, so neither can know an endpoint that the other does not; the right that an endpoint states is the one that
//! it asks for.

use std::sync::Arc;

use axum::Router;
use axum::extract::{Request, State};
use axum::handler::Handler;
use axum::http::{HeaderMap, header};
use axum::middleware::{Next, from_fn_with_state};
use axum::response::Response;
use axum::routing::{MethodRouter, get, post, put};
use lantern_storefront::protocol::{FOLDER, INVITATION, problem};
use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, SchemaGenerator};
use serde_json::{Map, Value, json};

use crate::refusal::Refused;
use crate::stand_in::{SCOPE, StandIn};

/// What an endpoint takes or gives.
#[derive(Clone, Copy)]
pub(crate) enum Body {
    /// Nothing.
    Nothing,
    /// A JSON document.
    Json(fn(&mut SchemaGenerator) -> Value),
    /// A form.
    Form(&'static [&'static str]),
    /// Bytes of one of our formats.
    Bytes(&'static str),
}

impl Body {
    pub(crate) fn json<T: JsonSchema>() -> Self {
        Self::Json(|generator| generator.subschema_for::<T>().to_value())
    }

    fn content(self, generator: &mut SchemaGenerator) -> Option<Value> {
        match self {
            Self::Nothing => None,
            Self::Json(schema) => Some(json!({ "application/json": { "schema": schema(generator) } })),
            Self::Form(fields) => {
                let properties: Map<String, Value> =
                    fields.iter().map(|f| ((*f).to_owned(), json!({ "type": "string" }))).collect();
                let schema = json!({ "type": "object", "properties": properties, "required": fields });
                Some(json!({ "application/x-www-form-urlencoded": { "schema": schema } }))
            }
            Self::Bytes(_) => Some(json!({ "application/octet-stream": {} })),
        }
    }
}

/// What guards an endpoint, and what it says of itself.
pub(crate) struct Endpoint {
    pub summary: &'static str,
    /// The right that is needed; none for everybody.
    pub scope: Option<&'static str>,
    pub takes: Body,
    pub gives: Body,
    /// Headers that must be there.
    pub headers: &'static [&'static str],
    /// Headers that may be there.
    pub may: &'static [&'static str],
    /// What may stand behind the `?`.
    pub query: &'static [&'static str],
    /// The status of an action that was done.
    pub status: u16,
    /// Other statuses that are no refusals, with what they mean.
    pub also: &'static [(u16, &'static str)],
    /// Headers of the answer.
    pub answers: &'static [&'static str],
    /// What stands in the place of a problem document.
    pub error: Option<fn(&mut SchemaGenerator) -> Value>,
    /// Whether it is for players: those who were invited show their invitation, and those who make the game their access.
    pub is_for_players: bool,
}

/// How a part of a path or a header is written.
fn form_of(name: &str) -> Value {
    let text = |pattern: &str, what: &str| json!({ "type": "string", "pattern": pattern, "description": what });
    match name {
        "title" => json!({ "type": "string", "minLength": 1, "maxLength": 255, "description": "A title's handle" }),
        "branch" | "problem" => text("^[a-z0-9][a-z0-9_-]{0,63}$", "A name"),
        "recipe" | "segment" | "pack" | "invitation" => text("^[0-9a-f]{64}$", "A digest, in hexadecimal digits"),
        "build" => json!({ "type": "integer", "minimum": 1, "description": "The storefront's own number" }),
        "Idempotency-Key" => text(
            "^[0-9a-f]{8}-[0-9a-f]{4}-7[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$",
            "A UUID of version 7 (RFC 9562), a fresh one for each action, in lower case",
        ),
        "If-Match" => text("^\"[0-9]+\"$", "One strong entity tag (RFC 9110, section 8.8.3): the branch's revision"),
        "Range" => text("^bytes=[0-9]+-[0-9]+$", "One range with both its ends (RFC 9110, section 14.1.2)"),
        "Content-Range" => {
            text("^bytes [0-9]+-[0-9]+/[0-9]+$", "Which bytes of the pack come (RFC 9110, section 14.4)")
        }
        _ => json!({ "type": "string" }),
    }
}

/// Refuses who has no token, or one without a right.
pub(crate) fn allow(stand_in: &StandIn, headers: &HeaderMap, right: &str) -> Result<(), Refused> {
    let token = headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()?.strip_prefix("Bearer "));
    match token {
        Some(token) if stand_in.knows_token(token) => {}
        _ => return Err(Refused::new(problem::NO_ACCESS, "this needs access", "connect again")),
    }
    if SCOPE.split(' ').any(|scope| scope == right) {
        return Ok(());
    }
    Err(Refused::new(problem::NO_RIGHT, format!("this needs the right {right:?}"), "ask for that right"))
}

/// What stands before an endpoint: the right that the table states.
type Guard = (Arc<StandIn>, &'static str);

async fn guard(State((stand_in, right)): State<Guard>, request: Request, next: Next) -> Result<Response, Refused> {
    allow(&stand_in, request.headers(), right)?;
    Ok(next.run(request).await)
}

/// The router, or the document, of the same table.
pub(crate) struct Api {
    /// Whose tokens count; none where the document is wanted, which nobody asks for at most starts.
    stand_in: Option<Arc<StandIn>>,
    router: Router<Arc<StandIn>>,
    generator: SchemaGenerator,
    paths: Map<String, Value>,
}

impl Api {
    pub(crate) fn new(stand_in: Option<Arc<StandIn>>) -> Self {
        let settings = SchemaSettings::draft2020_12().with(|s| {
            s.definitions_path = "/components/schemas".into();
            s.meta_schema = None;
        });
        Self { stand_in, router: Router::new(), generator: settings.into_generator(), paths: Map::new() }
    }

    pub(crate) fn get<H: Handler<T, Arc<StandIn>>, T: 'static>(
        self,
        path: &str,
        endpoint: Endpoint,
        handler: H,
    ) -> Self {
        self.add("get", path, endpoint, get(handler))
    }

    pub(crate) fn put<H: Handler<T, Arc<StandIn>>, T: 'static>(
        self,
        path: &str,
        endpoint: Endpoint,
        handler: H,
    ) -> Self {
        self.add("put", path, endpoint, put(handler))
    }

    pub(crate) fn post<H: Handler<T, Arc<StandIn>>, T: 'static>(
        self,
        path: &str,
        endpoint: Endpoint,
        handler: H,
    ) -> Self {
        self.add("post", path, endpoint, post(handler))
    }

    fn add(mut self, method: &str, path: &str, endpoint: Endpoint, handler: MethodRouter<Arc<StandIn>>) -> Self {
        let Some(stand_in) = &self.stand_in else {
            self.describe(method, path, &endpoint);
            return self;
        };
        let handler = match endpoint.scope {
            Some(right) => handler.route_layer(from_fn_with_state((stand_in.clone(), right), guard)),
            None => handler,
        };
        self.router = self.router.route(path, handler);
        self
    }

    fn describe(&mut self, method: &str, path: &str, endpoint: &Endpoint) {
        let mut parameters: Vec<Value> = path
            .split('/')
            .filter_map(|part| part.strip_prefix('{')?.strip_suffix('}'))
            .map(|name| json!({ "name": name, "in": "path", "required": true, "schema": form_of(name) }))
            .collect();
        let header = |name: &str, required: bool| json!({ "name": name, "in": "header", "required": required, "schema": form_of(name) });
        parameters.extend(endpoint.headers.iter().map(|name| header(name, true)));
        parameters.extend(endpoint.may.iter().map(|name| header(name, false)));
        let query = |name: &&str| {
            let schema = match *name {
                "limit" => json!({ "type": "integer", "minimum": 1 }),
                _ => json!({ "type": "string" }),
            };
            json!({ "name": name, "in": "query", "required": false, "schema": schema })
        };
        parameters.extend(endpoint.query.iter().map(query));
        if endpoint.is_for_players {
            parameters.extend([INVITATION, FOLDER].map(|name| header(name, false)));
        }
        let mut success = json!({ "description": "Done" });
        if let Body::Bytes(what) = endpoint.gives {
            success["description"] = what.into();
        }
        if let Some(content) = endpoint.gives.content(&mut self.generator) {
            success["content"] = content;
        }
        if !endpoint.answers.is_empty() {
            let headers =
                endpoint.answers.iter().map(|name| ((*name).to_owned(), json!({ "schema": { "type": "string" } })));
            success["headers"] = headers.collect::<Map<String, Value>>().into();
        }
        let problem = self.generator.subschema_for::<lantern_storefront::protocol::Problem>().to_value();
        let mut operation = json!({
            "summary": endpoint.summary,
            "parameters": parameters,
            "responses": {
                endpoint.status.to_string(): success,
                "default": {
                    "description": "Refused; `type` is a stable name, relative to this origin",
                    "content": { "application/problem+json": { "schema": problem } },
                },
            },
        });
        for (status, what) in endpoint.also {
            let mut other = json!({ "description": what });
            if (200..300).contains(status) {
                other["content"] = success.get("content").cloned().unwrap_or_else(|| json!({}));
            }
            operation["responses"][status.to_string()] = other;
        }
        if let Some(error) = endpoint.error {
            let schema = error(&mut self.generator);
            let answer = json!({ "description": "Not given", "content": { "application/json": { "schema": schema } } });
            operation["responses"]["default"] = answer;
        }
        if let Some(content) = endpoint.takes.content(&mut self.generator) {
            operation["requestBody"] = json!({ "required": true, "content": content });
        }
        if let Some(scope) = endpoint.scope {
            operation["security"] = json!([{ "access": [scope] }]);
        } else if endpoint.is_for_players {
            // Without access, or with it.
            operation["security"] = json!([{}, { "access": ["read"] }]);
        }
        let item = self.paths.entry(path).or_insert_with(|| json!({}));
        item[method] = operation;
    }

    /// Returns what answers.
    pub(crate) fn router(self) -> Router<Arc<StandIn>> {
        self.router
    }

    /// Returns what says how to ask.
    pub(crate) fn document(mut self) -> Value {
        let schemas = self.generator.take_definitions(true);
        let kinds: Vec<Value> = problem::ALL
            .iter()
            .map(|(name, status, title)| json!({ "type": format!("/problems/{name}"), "status": status, "title": title }))
            .collect();
        json!({
            "openapi": "3.1.0",
            "info": {
                "title": "The storefront protocol",
                "version": "1.0.0",
                "summary": "How a publisher brings builds to a storefront, and how players' machines get them.",
                "license": { "name": "MIT OR Apache-2.0", "identifier": "MIT OR Apache-2.0" },
            },
            "paths": self.paths,
            "components": {
                "schemas": schemas,
                "securitySchemes": { "access": {
                    "type": "oauth2",
                    "flows": { "clientCredentials": {
                        "tokenUrl": "/v1/token",
                        "scopes": {
                            "read": "see titles, builds and branches", "send": "bring recipes, packs and builds",
                            "release": "put builds in front of players", "setup": "make titles and depots",
                        },
                    } },
                } },
            },
            "x-problems": kinds,
        })
    }
}
