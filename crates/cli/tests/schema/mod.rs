//! Checks a JSON document against a JSON Schema, as far as our own schemas go. A keyword that is not known here fails, so
//! that nothing is passed over.

use serde_json::Value;

/// Keywords that say nothing about what is valid.
const FOR_PEOPLE: [&str; 7] = ["$schema", "$defs", "title", "description", "default", "format", "examples"];

/// Why a document is not as a schema says, with the path of the place.
pub fn validate(schema: &Value, document: &Value) -> Result<(), String> {
    at(schema, schema, document, "")
}

fn at(root: &Value, schema: &Value, value: &Value, path: &str) -> Result<(), String> {
    let wrong = |why: String| Err(format!("at {path}/: {why}"));
    let Some(rules) = schema.as_object() else {
        return if schema == &Value::Bool(false) { wrong("nothing is allowed".to_owned()) } else { Ok(()) };
    };
    for (keyword, rule) in rules {
        match keyword.as_str() {
            word if FOR_PEOPLE.contains(&word) => {}
            "$ref" => {
                let name = rule.as_str().and_then(|name| name.strip_prefix('#')).unwrap_or_default();
                let target = root.pointer(name).ok_or(format!("{rule} leads nowhere"))?;
                at(root, target, value, path)?;
            }
            "type" => {
                let names: Vec<&str> = match rule {
                    Value::Array(several) => several.iter().filter_map(Value::as_str).collect(),
                    one => one.as_str().into_iter().collect(),
                };
                if !names.iter().any(|name| is_of(value, name)) {
                    return wrong(format!("{value} is no {rule}"));
                }
            }
            "const" if value != rule => return wrong(format!("{value} is not {rule}")),
            "enum" if !rule.as_array().is_some_and(|all| all.contains(value)) => {
                return wrong(format!("{value} is none of {rule}"));
            }
            "minimum" if value.as_f64() < rule.as_f64() => return wrong(format!("{value} is below {rule}")),
            "maximum" if value.as_f64() > rule.as_f64() => return wrong(format!("{value} is above {rule}")),
            "minItems" if value.as_array().is_some_and(|all| (all.len() as u64) < rule.as_u64().unwrap_or(0)) => {
                return wrong(format!("fewer than {rule}"));
            }
            "maxItems" if value.as_array().is_some_and(|all| all.len() as u64 > rule.as_u64().unwrap_or(0)) => {
                return wrong(format!("more than {rule}"));
            }
            "const" | "enum" | "minimum" | "maximum" | "minItems" | "maxItems" | "uniqueItems" => {}
            "required" => {
                for name in rule.as_array().into_iter().flatten().filter_map(Value::as_str) {
                    if value.as_object().is_some_and(|object| !object.contains_key(name)) {
                        return wrong(format!("{name} is missing"));
                    }
                }
            }
            "properties" => {
                for (name, rule) in rule.as_object().into_iter().flatten() {
                    if let Some(inner) = value.get(name) {
                        at(root, rule, inner, &format!("{path}/{name}"))?;
                    }
                }
            }
            "additionalProperties" => {
                let known = rules.get("properties").and_then(Value::as_object);
                for (name, inner) in value.as_object().into_iter().flatten() {
                    if !known.is_some_and(|known| known.contains_key(name)) {
                        at(root, rule, inner, &format!("{path}/{name}"))?;
                    }
                }
            }
            "items" => {
                let first = rules.get("prefixItems").and_then(Value::as_array).map_or(0, Vec::len);
                for (number, inner) in value.as_array().into_iter().flatten().enumerate().skip(first) {
                    at(root, rule, inner, &format!("{path}/{number}"))?;
                }
            }
            "prefixItems" => {
                let rules = rule.as_array().into_iter().flatten();
                for (number, (rule, inner)) in rules.zip(value.as_array().into_iter().flatten()).enumerate() {
                    at(root, rule, inner, &format!("{path}/{number}"))?;
                }
            }
            "allOf" => {
                for rule in rule.as_array().into_iter().flatten() {
                    at(root, rule, value, path)?;
                }
            }
            "anyOf" | "oneOf" => {
                let all: Vec<Result<(), String>> =
                    rule.as_array().into_iter().flatten().map(|rule| at(root, rule, value, path)).collect();
                let fitting = all.iter().filter(|one| one.is_ok()).count();
                if fitting == 0 || keyword == "oneOf" && fitting > 1 {
                    return wrong(format!("{fitting} of {} ways fit: {all:?}", all.len()));
                }
            }
            other => return wrong(format!("the keyword {other} is not known here")),
        }
    }
    Ok(())
}

fn is_of(value: &Value, name: &str) -> bool {
    match name {
        "null" => value.is_null(),
        "boolean" => value.is_boolean(),
        "integer" => value.is_i64() || value.is_u64(),
        "number" => value.is_number(),
        "string" => value.is_string(),
        "array" => value.is_array(),
        "object" => value.is_object(),
        _ => false,
    }
}
