//! Events in the format of other systems: their shape is learned from a sample and published as a
//! JSON Schema, and every event is checked against it.

use jiff::Timestamp;
use serde_json::{Map, Value as Json, json};
use std::collections::BTreeMap;
use tide_api::{EventSample, EventShape};
use tide_core::states::EventKind;
use tide_core::{Attributes, Value};
use tide_engine::InboundEvent;

/// Words that systems use for them.
const WORDS: [(EventKind, &[&str]); 3] = [
    (
        EventKind::Joiner,
        &[
            "joiner", "hire", "hired", "rehire", "create", "created", "add", "added", "new",
            "start",
        ],
    ),
    (
        EventKind::Mover,
        &[
            "mover", "change", "changed", "update", "updated", "transfer", "move", "moved",
        ],
    ),
    (
        EventKind::Leaver,
        &[
            "leaver",
            "leave",
            "left",
            "terminate",
            "terminated",
            "delete",
            "deleted",
            "end",
            "exit",
        ],
    ),
];
/// The usual names of the fields for the kind of event and for the key.
const KIND_FIELDS: [&str; 6] = ["event", "action", "type", "eventtype", "kind", "operation"];
const KEY_FIELDS: [&str; 9] = [
    "key",
    "employeenumber",
    "personnelnumber",
    "employeeid",
    "personid",
    "workerid",
    "number",
    "id",
    "externalid",
];
/// Names of the fields in which an event's own id, its number and its time usually stand.
const ID_FIELDS: [&str; 2] = ["eventid", "messageid"];
const SEQUENCE_FIELDS: [&str; 3] = ["sequence", "sequencenumber", "eventnumber"];
const TIME_FIELDS: [&str; 4] = ["eventtime", "occurredat", "timestamp", "time"];
/// The longest id of an event, in characters.
const MAX_ID: usize = 200;
/// The deepest nesting that is read.
const DEPTH: usize = 5;

/// The shape of events from a system without a sample.
pub fn default_shape() -> EventShape {
    EventShape {
        event: "event".into(),
        kinds: EventKind::ALL
            .iter()
            .map(|kind| (kind.to_string(), *kind))
            .collect(),
        key: "key".into(),
        id: Some("id".into()),
        sequence: Some("sequence".into()),
        time: Some("time".into()),
        record: "attributes".into(),
        required: vec!["event".into(), "key".into()],
        types: [
            ("event", "string"),
            ("key", "string"),
            ("attributes", "object"),
            ("id", "string"),
            ("sequence", "number"),
            ("time", "string"),
        ]
        .map(|(a, b)| (a.to_owned(), b.to_owned()))
        .into(),
    }
}

fn paths(value: &Json, prefix: &str, depth: usize, out: &mut BTreeMap<String, &'static str>) {
    let Some(object) = value.as_object().filter(|_| depth < DEPTH) else {
        return;
    };
    for (name, value) in object {
        let path = if prefix.is_empty() {
            name.clone()
        } else {
            format!("{prefix}.{name}")
        };
        let kind = match value {
            Json::String(_) => "string",
            Json::Number(_) => "number",
            Json::Bool(_) => "boolean",
            Json::Array(_) => "array",
            Json::Object(_) => "object",
            Json::Null => continue,
        };
        out.insert(path.clone(), kind);
        paths(value, &path, depth + 1, out);
    }
}

fn at<'v>(value: &'v Json, path: &str) -> Option<&'v Json> {
    path.split('.')
        .filter(|part| !part.is_empty())
        .try_fold(value, |value, part| value.get(part))
}

fn meaning(word: &str) -> Option<EventKind> {
    let parts: Vec<String> = word
        .split(|c: char| !c.is_ascii_alphanumeric())
        .map(str::to_lowercase)
        .collect();
    WORDS
        .iter()
        .find(|(_, words)| parts.iter().any(|part| words.contains(&part.as_str())))
        .map(|(kind, _)| *kind)
}

/// Detects the shape of events. What cannot be detected must be given.
pub fn detect_shape(given: &EventSample) -> Result<EventShape, String> {
    let mut types = BTreeMap::new();
    paths(&given.sample, "", 0, &mut types);
    if types.is_empty() {
        return Err("the sample is not a JSON object with fields".into());
    }
    let last = |path: &str| {
        path.rsplit('.')
            .next()
            .unwrap_or(path)
            .to_lowercase()
            .replace(['_', '-'], "")
    };
    let guess = |names: &[&str], wanted: &[&str]| -> Option<String> {
        let fitting = |path: &&String| wanted.contains(&types[*path]);
        names.iter().find_map(|name| {
            types
                .keys()
                .filter(fitting)
                .find(|path| last(path) == *name)
                .cloned()
        })
    };
    let named = |path: &Option<String>, what: &str| match path {
        Some(path) if types.contains_key(path) => Ok(Some(path.clone())),
        Some(path) => Err(format!("the sample has no field `{path}` for the {what}")),
        None => Ok(None),
    };
    let event = named(&given.event, "kind of event")?
        .or_else(|| guess(&KIND_FIELDS, &["string"]))
        .ok_or("the field with the kind of event was not detected: name it as `event`")?;
    let key = named(&given.key, "key")?
        .or_else(|| guess(&KEY_FIELDS, &["string", "number"]))
        .ok_or("the field with the key was not detected: name it as `key`")?;
    let other = |path: Option<String>| path.filter(|path| *path != event && *path != key);
    let id = named(&given.id, "id")?.or_else(|| other(guess(&ID_FIELDS, &["string", "number"])));
    let sequence = named(&given.sequence, "sequence number")?
        .or_else(|| other(guess(&SEQUENCE_FIELDS, &["number"])));
    let time = named(&given.time, "time")?.or_else(|| other(guess(&TIME_FIELDS, &["string"])));
    let mut words = given.kinds.clone();
    let own = at(&given.sample, &event)
        .and_then(Json::as_str)
        .unwrap_or_default()
        .to_owned();
    if words.is_empty() {
        let style = |word: &str| match own.chars().all(|c| !c.is_lowercase()) {
            true => word.to_uppercase(),
            false => word.to_owned(),
        };
        words = EventKind::ALL
            .iter()
            .map(|kind| (style(kind.as_str()), *kind))
            .collect();
        let kind = meaning(&own).ok_or_else(|| {
            format!("`{own}` is not a known kind of event: declare it in `kinds`")
        })?;
        words.insert(own, kind);
    }
    // The record is the object that holds the key, unless that is the event itself.
    let record = key
        .rsplit_once('.')
        .map(|(record, _)| record.to_owned())
        .unwrap_or_default();
    let types = types
        .into_iter()
        .map(|(path, kind)| (path, kind.to_owned()))
        .collect();
    Ok(EventShape {
        required: vec![event.clone(), key.clone()],
        event,
        kinds: words,
        key,
        id,
        sequence,
        time,
        record,
        types,
    })
}

/// The JSON Schema of a shape.
pub fn schema(system: &str, shape: &EventShape) -> Json {
    let mut root = json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema", "$id": format!("/api/v1/events/{system}/schema"),
        "title": format!("An event of {system}"), "type": "object",
    });
    for (path, kind) in &shape.types {
        let mut place = &mut root;
        let parts: Vec<&str> = path.split('.').collect();
        for (depth, part) in parts.iter().enumerate() {
            let whole = parts[..=depth].join(".");
            if shape
                .required
                .iter()
                .any(|r| *r == whole || r.starts_with(&format!("{whole}.")))
            {
                let required = place
                    .as_object_mut()
                    .map(|o| o.entry("required").or_insert_with(|| json!([])));
                if let Some(list) = required.and_then(Json::as_array_mut)
                    && !list.contains(&json!(part))
                {
                    list.push(json!(part));
                }
            }
            place = &mut place["properties"][*part];
        }
        if place["type"].is_null() {
            // A number that is a key may as well be written as text.
            let is_name = *path == shape.key || Some(path) == shape.id.as_ref();
            place["type"] = if is_name {
                json!(["string", "number"])
            } else {
                json!(kind)
            };
        }
        if *path == shape.event {
            place["enum"] = json!(shape.kinds.keys().collect::<Vec<_>>());
        }
    }
    root
}

/// Parses an event by its shape, or returns everything that is wrong with it.
pub fn read_event(shape: &EventShape, event: &Json) -> Result<InboundEvent, Vec<String>> {
    let mut problems = Vec::new();
    if !event.is_object() {
        return Err(vec!["the event is not a JSON object".into()]);
    }
    check_shape(shape, event, &mut problems);
    let word = at(event, &shape.event)
        .and_then(Json::as_str)
        .unwrap_or_default();
    let kind = shape
        .kinds
        .iter()
        .find(|(known, _)| known.eq_ignore_ascii_case(word))
        .map(|(_, kind)| *kind);
    if kind.is_none() && !word.is_empty() {
        let known: Vec<&str> = shape.kinds.keys().map(String::as_str).collect();
        problems.push(format!(
            "`{}` cannot be `{}`: one of {}",
            shape.event,
            word.chars().take(60).collect::<String>(),
            known.join(", ")
        ));
    }
    let key = at(event, &shape.key)
        .map(|key| key.as_str().map_or_else(|| key.to_string(), str::to_owned))
        .unwrap_or_default();
    let key = key.trim().to_owned();
    if key.is_empty() && problems.is_empty() {
        problems.push(format!("`{}` is empty", shape.key));
    }
    let given = |path: &Option<String>| {
        path.as_ref()
            .and_then(|path| at(event, path))
            .filter(|value| !value.is_null())
    };
    let external_id =
        given(&shape.id).map(|id| id.as_str().map_or_else(|| id.to_string(), str::to_owned));
    if external_id
        .as_ref()
        .is_some_and(|id| id.is_empty() || id.chars().count() > MAX_ID)
    {
        problems.push(format!(
            "`{}` must have 1 to {MAX_ID} characters",
            shape.id.as_deref().unwrap_or_default()
        ));
    }
    let sequence = given(&shape.sequence).map(|number| number.as_i64());
    if sequence == Some(None) {
        problems.push(format!(
            "`{}` must be a whole number of 64 bits",
            shape.sequence.as_deref().unwrap_or_default()
        ));
    }
    let occurred_at = given(&shape.time).map(|time| {
        time.as_str()
            .and_then(|time| time.parse::<Timestamp>().ok())
    });
    if occurred_at == Some(None) {
        problems.push(format!(
            "`{}` is not a timestamp: write 2026-05-04T08:00:00Z",
            shape.time.as_deref().unwrap_or_default()
        ));
    }
    let (Some(kind), true) = (kind, problems.is_empty()) else {
        return Err(problems);
    };
    let attributes = attributes_of(shape, event, &key);
    let (sequence, occurred_at) = (sequence.flatten(), occurred_at.flatten());
    Ok(InboundEvent {
        kind,
        key,
        attributes,
        body: event.to_string(),
        external_id,
        sequence,
        occurred_at,
    })
}

/// Checks that the required paths are there, and that each value has its type.
fn check_shape(shape: &EventShape, event: &Json, problems: &mut Vec<String>) {
    for path in &shape.required {
        if at(event, path).is_none_or(Json::is_null) {
            problems.push(format!("`{path}` is missing"));
        }
    }
    for (path, kind) in &shape.types {
        let Some(value) = at(event, path).filter(|value| !value.is_null()) else {
            continue;
        };
        let fits = match kind.as_str() {
            _ if *path == shape.key || Some(path) == shape.id.as_ref() => {
                value.is_string() || value.is_number()
            }
            "string" => value.is_string(),
            "number" => value.is_number(),
            "boolean" => value.is_boolean(),
            "array" => value.is_array(),
            _ => value.is_object(),
        };
        if !fits {
            problems.push(format!("`{path}` must be of type {kind}"));
        }
    }
}

/// The attributes of the record in an event.
fn attributes_of(shape: &EventShape, event: &Json, key: &str) -> Attributes {
    let record = if shape.record.is_empty() {
        Some(event)
    } else {
        at(event, &shape.record)
    };
    let mut attributes = Attributes::new();
    if let Some(record) = record.and_then(Json::as_object) {
        fill(record, "", 0, &mut attributes);
    }
    if shape.record.is_empty() {
        for path in [
            Some(&shape.event),
            shape.id.as_ref(),
            shape.sequence.as_ref(),
            shape.time.as_ref(),
        ]
        .into_iter()
        .flatten()
        {
            attributes.set(path, Vec::new());
        }
    }
    attributes.set("key", vec![Value::text(key)]);
    attributes
}

fn fill(record: &Map<String, Json>, prefix: &str, depth: usize, out: &mut Attributes) {
    let scalar = |value: &Json| match value {
        Json::String(text) if text.trim().is_empty() => None,
        Json::String(text) => Some(Value::text(text)),
        Json::Bool(truth) => Some(Value::Bool(*truth)),
        Json::Number(number) => Some(
            number
                .as_i64()
                .map_or_else(|| Value::text(number.to_string()), Value::Int),
        ),
        _ => None,
    };
    for (name, value) in record {
        let name = format!("{prefix}{name}");
        match value {
            Json::Object(inner) if depth < DEPTH => {
                fill(inner, &format!("{name}."), depth + 1, out)
            }
            Json::Array(items) => out.set(name, items.iter().filter_map(scalar).collect()),
            single => out.set(name, scalar(single).into_iter().collect()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample() -> EventSample {
        EventSample {
            sample: json!({"meta": {"eventType": "HIRE"}, "worker": {"employeeNumber": 1042, "name": {"first": "Ada"}, "crew": true, "phones": ["1"]}}),
            ..unguided(Json::Null)
        }
    }

    fn unguided(sample: Json) -> EventSample {
        EventSample {
            sample,
            event: None,
            key: None,
            id: None,
            sequence: None,
            time: None,
            kinds: BTreeMap::new(),
        }
    }

    #[test]
    fn a_shape_is_learned_from_a_sample() {
        let shape = detect_shape(&sample()).expect("learned");
        assert_eq!(
            (
                shape.event.as_str(),
                shape.key.as_str(),
                shape.record.as_str()
            ),
            ("meta.eventType", "worker.employeeNumber", "worker")
        );
        assert_eq!(shape.kinds["HIRE"], EventKind::Joiner);
        let schema = schema("roster", &shape);
        assert_eq!(schema["required"], json!(["meta", "worker"]));
        assert_eq!(
            schema["properties"]["worker"]["required"],
            json!(["employeeNumber"])
        );
        assert!(
            schema["properties"]["meta"]["properties"]["eventType"]["enum"]
                .as_array()
                .expect("words")
                .contains(&json!("HIRE"))
        );
        let happening = read_event(&shape, &json!({"meta": {"eventType": "leaver"}, "worker": {"employeeNumber": "7", "name": {"first": "Bo"}}}))
            .expect("read");
        assert_eq!(
            (happening.kind.as_str(), happening.key.as_str()),
            ("leaver", "7")
        );
        assert_eq!(happening.attributes.get("name.first"), [Value::text("Bo")]);
    }

    #[test]
    fn what_orders_events_is_learned_and_read_and_is_no_value_of_the_record() {
        let shape =
            detect_shape(&unguided(json!({"eventId": "e1", "sequence": 7, "eventTime": "2026-05-04T08:00:00Z", "action": "HIRE", "key": "9"})))
                .expect("learned");
        let paths = [&shape.id, &shape.sequence, &shape.time].map(Option::as_deref);
        assert_eq!(
            paths,
            [Some("eventId"), Some("sequence"), Some("eventTime")]
        );
        let event = json!({"eventId": 12, "sequence": 8, "eventTime": "2026-05-04T09:00:00+03:00", "action": "HIRE", "key": "9", "desk": "4"});
        let read_so = read_event(&shape, &event).expect("read");
        assert_eq!(
            (read_so.external_id.as_deref(), read_so.sequence),
            (Some("12"), Some(8))
        );
        assert_eq!(
            read_so.occurred_at.map(|at| at.to_string()).as_deref(),
            Some("2026-05-04T06:00:00Z")
        );
        assert_eq!(
            read_so
                .attributes
                .iter()
                .map(|(name, _)| name)
                .collect::<Vec<_>>(),
            ["desk", "key"]
        );
        let wrong = json!({"eventId": "", "sequence": 1.5, "eventTime": "yesterday", "action": "HIRE", "key": "9"});
        let problems = read_event(&shape, &wrong).expect_err("refused");
        assert_eq!(problems.len(), 3, "{problems:?}");
        // None of it is required.
        assert_eq!(
            read_event(&default_shape(), &json!({"event": "joiner", "key": "7"}))
                .expect("read")
                .sequence,
            None
        );
    }

    #[test]
    fn invalid_events_get_all_problems_at_once() {
        let shape = detect_shape(&sample()).expect("learned");
        let problems = read_event(
            &shape,
            &json!({"meta": {"eventType": "DANCE"}, "worker": {"crew": "yes"}}),
        )
        .expect_err("refused");
        assert_eq!(problems.len(), 3, "{problems:?}");
        assert!(
            problems[0].contains("`worker.employeeNumber` is missing"),
            "{problems:?}"
        );
        assert!(
            problems
                .iter()
                .any(|p| p.contains("`worker.crew` must be of type boolean")),
            "{problems:?}"
        );
        assert!(
            problems
                .iter()
                .any(|p| p.contains("one of HIRE, JOINER, LEAVER, MOVER")),
            "{problems:?}"
        );
        assert_eq!(
            read_event(&default_shape(), &json!([])).expect_err("refused"),
            ["the event is not a JSON object"]
        );
        assert!(read_event(&default_shape(), &json!({"event": "joiner", "key": " "})).is_err());
    }

    #[test]
    fn what_cannot_be_detected_must_be_configured() {
        let odd = |sample: Json| detect_shape(&unguided(sample));
        assert!(
            odd(json!({"who": "7"}))
                .expect_err("no kind")
                .contains("kind of event")
        );
        assert!(
            odd(json!({"event": "HIRE", "who": "7"}))
                .expect_err("no key")
                .contains("the field with the key")
        );
        assert!(
            odd(json!({"event": "DANCE", "key": "7"}))
                .expect_err("no word")
                .contains("declare it in `kinds`")
        );
        assert!(odd(json!([])).is_err());
        let told = EventSample {
            key: Some("nothing".into()),
            ..sample()
        };
        assert!(
            detect_shape(&told)
                .expect_err("no such field")
                .contains("no field `nothing`")
        );
    }
}
