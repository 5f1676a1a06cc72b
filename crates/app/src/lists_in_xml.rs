//! Access control lists in XML (RFC 7950 section 7), as their JSON (RFC 7951) says the same.

use roxmltree::{Document, Node};
use serde_json::{Map, Value};
use std::fmt::Write;
use tipstaff_core::policy::deceives;

/// The namespaces of modules (RFC 8519, RFC 8343, RFC 7224).
const MODULES: [(&str, &str); 3] = [
    ("ietf-access-control-list", "urn:ietf:params:xml:ns:yang:ietf-access-control-list"),
    ("ietf-interfaces", "urn:ietf:params:xml:ns:yang:ietf-interfaces"),
    ("iana-if-type", "urn:ietf:params:xml:ns:yang:iana-if-type"),
];
/// What holds several kinds of data (RFC 6241).
const CONFIG: &str = "urn:ietf:params:xml:ns:netconf:base:1.0";
/// Whatever is in a list is one of several.
const LISTS: [&str; 3] = ["acl", "ace", "interface"];
/// What is a number in JSON.
const NUMBERS: [&str; 4] = ["protocol", "port", "lower-port", "upper-port"];
/// No module has anything deeper.
const DEPTH: usize = 24;

/// Whether a text is XML rather than JSON.
pub(crate) fn is_xml(text: &str) -> bool {
    text.trim_start().starts_with('<')
}

/// The lists of a text in XML as JSON.
///
/// # Errors
/// What is wrong, as the end of a sentence.
pub(crate) fn as_json(text: &str) -> Result<Value, String> {
    let document = Document::parse(text).map_err(|error| error.to_string())?;
    let namespace = MODULES[0].1;
    let is = |node: &Node<'_, '_>| node.has_tag_name((namespace, "acls"));
    let mut all = document.descendants().filter(is);
    let acls =
        all.next().ok_or_else(|| format!("there is no `acls` of the namespace {namespace}"))?;
    if all.next().is_some() {
        return Err("there are several `acls`".into());
    }
    let key = format!("{}:acls", MODULES[0].0);
    Ok(Value::Object(Map::from_iter([(key, value(acls, 0)?)])))
}

fn value(node: Node<'_, '_>, depth: usize) -> Result<Value, String> {
    if depth > DEPTH {
        return Err("it is nested deeper than any list".into());
    }
    let mut inner = node.children().filter(Node::is_element).peekable();
    let name = node.tag_name().name();
    if inner.peek().is_none() {
        let text = node.text().unwrap_or_default();
        let is_number = NUMBERS.contains(&name)
            || name == "type" && node.parent().is_some_and(|it| it.tag_name().name() == "icmp");
        return Ok(match text.trim() {
            "" if name != "name" => Value::Object(Map::new()),
            number if is_number => match number.parse::<u64>() {
                Ok(number) => number.into(),
                Err(_) => return Err(format!("`{}` is no number", number.escape_debug())),
            },
            // Spaces are part of names.
            _ if name == "name" => text.into(),
            word => word.into(),
        });
    }
    let mut found = Map::new();
    for child in inner {
        let name = child.tag_name();
        let key = match name.namespace() {
            Some(it) if it != MODULES[0].1 => format!("{it}:{}", name.name()),
            _ => name.name().to_owned(),
        };
        let its = value(child, depth + 1)?;
        let several = LISTS.contains(&key.as_str());
        match found.get_mut(&key) {
            Some(Value::Array(list)) if several => list.push(its),
            Some(_) => {
                return Err(format!("`{}` stands twice in the same place", key.escape_debug()));
            }
            None if several => {
                found.insert(key, Value::Array(vec![its]));
            }
            None => {
                found.insert(key, its);
            }
        }
    }
    Ok(Value::Object(found))
}

/// The same in XML.
pub(crate) fn as_xml(document: &Value) -> String {
    let mut text =
        format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<config xmlns=\"{CONFIG}\">\n");
    for (key, value) in document.as_object().into_iter().flatten() {
        let (module, name) = key.split_once(':').unwrap_or(("", key));
        let namespace = MODULES.iter().find(|it| it.0 == module).map_or("", |it| it.1);
        element(name, &format!(" xmlns=\"{namespace}\""), value, 1, &mut text);
    }
    text.push_str("</config>\n");
    text
}

fn element(name: &str, attributes: &str, value: &Value, depth: usize, out: &mut String) {
    let space = "  ".repeat(depth);
    // Writing to a text cannot fail.
    let _ = match value {
        Value::Array(list) => {
            list.iter().for_each(|it| element(name, attributes, it, depth, out));
            Ok(())
        }
        Value::Object(inner) if inner.is_empty() => writeln!(out, "{space}<{name}{attributes}/>"),
        Value::Object(inner) => {
            let _ = writeln!(out, "{space}<{name}{attributes}>");
            inner.iter().for_each(|(key, value)| element(key, "", value, depth + 1, out));
            writeln!(out, "{space}</{name}>")
        }
        Value::String(word) => {
            // Of another module: its name stands for its namespace.
            let module = word.split_once(':').filter(|_| name == "type");
            let namespace = module.and_then(|it| MODULES.iter().find(|known| known.0 == it.0));
            let declared = namespace.map(|it| format!(" xmlns:{}=\"{}\"", it.0, it.1));
            let declared = declared.unwrap_or_default();
            writeln!(out, "{space}<{name}{attributes}{declared}>{}</{name}>", escaped(word))
        }
        other => writeln!(out, "{space}<{name}{attributes}>{other}</{name}>"),
    };
}

/// Text that stands for nothing else, of characters that XML has (XML 1.0 section 2.2).
fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for char in text.chars() {
        match char {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '\t' | '\n' | '\r' => out.push_str(&format!("&#{};", u32::from(char))),
            '\0'..'\u{20}' | '\u{fffe}' | '\u{ffff}' => out.push('\u{fffd}'),
            char if deceives(char) => out.push_str(&format!("&#{};", u32::from(char))),
            char => out.push(char),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::{as_json, as_xml, is_xml};
    use serde_json::json;

    #[test]
    fn what_is_written_is_read_again() {
        let document = json!({"ietf-access-control-list:acls": {"acl": [{
            "name": " a & <b> ",
            "type": "ipv4-acl-type",
            "aces": {"ace": [{
                "name": "shell",
                "matches": {
                    "ipv4": {"protocol": 6, "source-ipv4-network": "198.51.100.0/27"},
                    "tcp": {"destination-port": {"operator": "eq", "port": 2202}},
                },
                "actions": {"forwarding": "accept"},
            }, {
                "name": "pings",
                "matches": {"icmp": {"type": 8}},
                "actions": {"forwarding": "drop"},
            }]},
        }]}});
        let text = as_xml(&document);
        assert!(is_xml(&text) && !is_xml("{}"));
        assert_eq!(as_json(&text), Ok(document));
    }

    #[test]
    fn what_is_no_list_is_refused() {
        let acls = "<acls xmlns=\"urn:ietf:params:xml:ns:yang:ietf-access-control-list\">";
        let deep = format!("{acls}{}{}</acls>", "<a>".repeat(100), "</a>".repeat(100));
        let entity =
            format!("<!DOCTYPE d [<!ENTITY a \"aaaa\"><!ENTITY b \"&a;&a;\">]>{acls}&b;</acls>");
        let number = format!("{acls}<acl><name>a</name><port>many</port></acl></acls>");
        let twice = format!("{acls}<acl><name>a</name><name>b</name></acl></acls>");
        for text in ["<acls/>", "<a>", "<", &deep, &entity, &number, &twice] {
            assert!(as_json(text).is_err(), "{text}");
        }
    }
}
