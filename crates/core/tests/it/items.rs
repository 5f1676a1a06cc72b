//! Single items that come into lists and go.

use crate::given::policy;
use tipstaff_core::policy::edit::{
    EditError, ItemEdit, ItemProblem, NamedEdit, RuleEdit, edit_named, edit_rule,
};
use tipstaff_core::policy::{Source, Used};

/// One item more or less of the keys of a rule.
fn item(key: &'static str, item: &str, also: bool) -> ItemEdit {
    ItemEdit { key, item: item.into(), meaning: None, also }
}

/// The list `from` of a rule, as it is written, after these changes.
fn from_after(written: &str, items: &[ItemEdit]) -> Result<String, EditError> {
    let head = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n[[host.sluice.rule]]\n\
                name = \"shell\"\nallow = [\"22/tcp\"]\npaused = true\n";
    let text = format!("{head}{written}");
    let sources = [Source::new("policy.toml", &text)];
    let edit = RuleEdit::Change { keys: Vec::new(), items: items.to_vec() };
    let edited = edit_rule(&sources, &policy(&text), ("host", "sluice"), "shell", &edit)?;
    policy(&edited.text);
    // Line ends are those of the file.
    let sources = [Source::new("policy.toml", &text.replace('\n', "\r\n"))];
    let other = edit_rule(&sources, &policy(&text), ("host", "sluice"), "shell", &edit)?;
    assert_eq!(other.text, edited.text.replace('\n', "\r\n"));
    Ok(edited.text.strip_prefix(head).expect("the rest stays").to_owned())
}

#[test]
fn items_come_into_lists_and_go_in_the_form_that_the_list_has() {
    let also = |it| item("from", it, true);
    let less = |it| item("from", it, false);
    let lines =
        "from = [\n  \"10.0.0.1\", # one\n  # about two\n  \"10.0.0.2\",\n  \"10.0.0.3\"\n]\n";
    for (before, items, after) in [
        (
            "from = [\"10.0.0.1\"]\n",
            vec![also("10.0.0.2")],
            "from = [\"10.0.0.1\", \"10.0.0.2\"]\n",
        ),
        (
            "from = ['10.0.0.1' , ]\n",
            vec![also("10.0.0.2")],
            "from = ['10.0.0.1', \"10.0.0.2\" , ]\n",
        ),
        (
            "from = [\"10.0.0.1\", \"10.0.0.2\"] # x\n",
            vec![less("10.0.0.1")],
            "from = [\"10.0.0.2\"] # x\n",
        ),
        (
            "from = [\"10.0.0.1\", \"10.0.0.2\"]\n",
            vec![less("10.0.0.2")],
            "from = [\"10.0.0.1\"]\n",
        ),
        (
            "from = [\"10.0.0.1\", \"10.0.0.2\", \"10.0.0.3\"]\n",
            vec![less("10.0.0.2"), less("10.0.0.3"), also("10.0.0.4")],
            "from = [\"10.0.0.1\", \"10.0.0.4\"]\n",
        ),
        (
            "from = [\"10.0.0.1\", \"10.0.0.2\", \"10.0.0.3\"]\n",
            vec![less("10.0.0.1"), less("10.0.0.2")],
            "from = [\"10.0.0.3\"]\n",
        ),
        (
            "from = [\"10.0.0.1\"]\n",
            vec![also("10.0.0.2"), less("10.0.0.1")],
            "from = [\"10.0.0.2\"]\n",
        ),
        (
            lines,
            vec![also("10.0.0.4")],
            "from = [\n  \"10.0.0.1\", # one\n  # about two\n  \"10.0.0.2\",\n  \"10.0.0.3\",\n  \"10.0.0.4\",\n]\n",
        ),
        (
            lines,
            vec![less("10.0.0.1"), less("10.0.0.3")],
            "from = [\n  # about two\n  \"10.0.0.2\",\n]\n",
        ),
        (
            lines,
            vec![less("10.0.0.3"), also("10.0.0.4")],
            "from = [\n  \"10.0.0.1\", # one\n  # about two\n  \"10.0.0.2\",\n  \"10.0.0.4\",\n]\n",
        ),
        // What is left out is written as such, and what is to be meant again loses its mark.
        ("", vec![less("10.0.0.1")], "from = [\"!10.0.0.1\"]\n"),
        (
            "from = [\"10.0.0.0/8\"]\n",
            vec![less("10.0.0.1")],
            "from = [\"10.0.0.0/8\", \"!10.0.0.1\"]\n",
        ),
        (
            "from = [\"10.0.0.0/8\", \"!10.0.0.1\"]\n",
            vec![also("10.0.0.1")],
            "from = [\"10.0.0.0/8\"]\n",
        ),
        ("from = [\"!10.0.0.1\"]\n", vec![also("10.0.0.1")], ""),
        (
            "from = [\"!10.0.0.1\"]\n",
            vec![less("10.0.0.2")],
            "from = [\"!10.0.0.1\", \"!10.0.0.2\"]\n",
        ),
    ] {
        let found = from_after(before, &items);
        assert_eq!(found.as_deref(), Ok(after), "{before} {items:?}");
    }
}

#[test]
fn items_that_make_no_sense_are_refused() {
    let problem = |before: &str, edit: ItemEdit| match from_after(before, &[edit]) {
        Err(EditError::Item { problem, .. }) => problem,
        other => panic!("{before}: {other:?}"),
    };
    let (one, but) = ("from = [\"10.0.0.1\"]\n", "from = [\"!10.0.0.1\"]\n");
    for (before, edit, expected) in [
        (one, item("from", "10.0.0.1", true), ItemProblem::There),
        (but, item("from", "10.0.0.1", false), ItemProblem::There),
        // Whoever names nobody means everybody: to name one would narrow it.
        ("", item("from", "10.0.0.1", true), ItemProblem::AllAlready),
        (but, item("from", "10.0.0.2", true), ItemProblem::AllAlready),
        (one, item("from", "10.0.0.1", false), ItemProblem::Last),
        ("", item("allow", "22/tcp", false), ItemProblem::Last),
        ("", item("deny", "23/tcp", true), ItemProblem::OtherVerdict("allow")),
        ("", item("allow", "23/tcp", false), ItemProblem::NotThere(vec!["22/tcp".into()])),
        ("", item("at", "192.0.2.10", false), ItemProblem::NotThere(Vec::new())),
        (one, item("from", "!10.0.0.2", false), ItemProblem::NotThere(vec!["10.0.0.1".into()])),
    ] {
        assert_eq!(problem(before, edit.clone()), expected, "{before} {edit:?}");
    }
    let program =
        from_after("program = \"/srv/tidegauge\"\n", &[item("program", "/opt/seedbase", true)]);
    assert_eq!(program.as_deref(), Ok("program = [\"/srv/tidegauge\", \"/opt/seedbase\"]\n"));
}

/// A service says what its ports are for: words stay, and new ports get theirs later.
#[test]
fn ports_with_words_keep_them() {
    let after = |written: &str, items: &[ItemEdit]| {
        let text = format!(
            "edition = 1\n[service.store]\n{written}[host.sluice]\naddresses = [\"192.0.2.10\"]\n"
        );
        let sources = [Source::new("policy.toml", &text)];
        let edit = NamedEdit::Change(Vec::new(), items.to_vec());
        let edited = edit_named(&sources, &policy(&text), (Used::Service, "store"), &edit, None)?;
        policy(&edited.text);
        let start = "edition = 1\n[service.store]\n".len();
        let end = edited.text.find("[host.sluice]").expect("the host");
        Ok::<String, EditError>(edited.text[start..end].to_owned())
    };
    let (also, less) = (item("ports", "7/udp", true), item("ports", "1/tcp", false));
    let inline = "ports = { \"1/tcp\" = \"One\", \"2/tcp\" = \"Two\" }\n";
    let both = [also.clone(), less.clone()];
    assert_eq!(
        after(inline, &both).as_deref(),
        Ok("ports = { \"2/tcp\" = \"Two\", \"7/udp\" = \"\" }\n")
    );
    let section = "[service.store.ports]\n\"1/tcp\" = \"One\" # the first\n\"2/tcp\" = \"Two\"\n";
    assert_eq!(
        after(section, &both).as_deref(),
        Ok("[service.store.ports]\n\"2/tcp\" = \"Two\"\n\"7/udp\" = \"\"\n")
    );
    assert_eq!(
        after("ports = [\"1/tcp\"]\n", &[also]).as_deref(),
        Ok("ports = [\"1/tcp\", \"7/udp\"]\n")
    );
    assert!(after("ports = [\"1/tcp\"]\n", &[less]).is_err());
}
