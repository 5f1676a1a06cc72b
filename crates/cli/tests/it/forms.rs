//! The forms of reports: documented, and what the program really writes.

use crate::harness::{Desk, MENDED, Outcome};
use schemars::{Schema, schema_for};
use serde_json::Value;
use std::collections::BTreeMap;
use std::fs;
use tipstaff_app::{
    adopted, ask, asked, attend, callers, compare, cut, docket, draft, edit, expected, exported,
    facts, fleet, kernel, listing, newcomers, places, posture, programs, reach, rehearse, report,
    review, roles, show, status, tighten, transaction, turning, watch, whole_plan,
};
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};

const FOLDER: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/schema");

/// The form of each report, by the command that gives it; behind a dash, of a part of the command.
fn forms() -> BTreeMap<&'static str, Schema> {
    BTreeMap::from([
        ("adopt", schema_for!(adopted::Report)),
        ("adopt-list", schema_for!(exported::Adopted)),
        ("export", schema_for!(exported::Report)),
        ("export-plan", schema_for!(whole_plan::Document)),
        ("adopt-plan", schema_for!(whole_plan::Taken)),
        ("ask", schema_for!(ask::Report)),
        ("ask-region", schema_for!(asked::Report)),
        ("attend", schema_for!(attend::Happened)),
        ("callers", schema_for!(callers::Report)),
        ("callers-clear", schema_for!(callers::Cleared)),
        ("callers-save", schema_for!(callers::Saved)),
        ("compare", schema_for!(compare::Report)),
        ("confirm", schema_for!(transaction::Settled)),
        ("cut", schema_for!(cut::Report)),
        ("defaults", schema_for!(edit::Report)),
        ("docket", schema_for!(docket::List)),
        ("docket-mend", schema_for!(docket::Mended)),
        ("docket-restore", schema_for!(edit::Report)),
        ("docket-show", schema_for!(docket::Shown)),
        ("draft", schema_for!(draft::Report)),
        ("enforce", schema_for!(transaction::Report)),
        ("enforce-boot", schema_for!(transaction::Booted)),
        ("facts", schema_for!(facts::Report)),
        ("finding", schema_for!(edit::Report)),
        ("fleet", schema_for!(fleet::Overview)),
        ("fleet-seal", schema_for!(fleet::Sealed)),
        ("fleet-verify", schema_for!(fleet::Verified)),
        ("fleet-compare", schema_for!(fleet::Compared)),
        ("fleet-reach", schema_for!(fleet::Reached)),
        ("fleet-matrix", schema_for!(fleet::Matrix)),
        ("fleet-expectations", schema_for!(fleet::Expected)),
        ("fleet-probe", schema_for!(fleet::Probed)),
        ("fleet-roll-out", schema_for!(fleet::RolledOut)),
        ("fleet-hold", schema_for!(fleet::Held)),
        ("fleet-undo", schema_for!(fleet::Undone)),
        ("fleet-take", schema_for!(fleet::Taken)),
        ("baseline", schema_for!(edit::Report)),
        ("bundle", schema_for!(edit::Report)),
        ("bundle-list", schema_for!(listing::NameList)),
        ("expect", schema_for!(edit::Report)),
        ("expect-list", schema_for!(expected::Report)),
        ("interface", schema_for!(edit::Report)),
        ("interface-list", schema_for!(roles::Report)),
        ("label", schema_for!(edit::Report)),
        ("label-list", schema_for!(listing::NameList)),
        ("host", schema_for!(edit::Report)),
        ("host-list", schema_for!(listing::HostList)),
        ("place", schema_for!(edit::Report)),
        ("newcomers", schema_for!(newcomers::Report)),
        ("place-list", schema_for!(listing::NameList)),
        ("place-refresh", schema_for!(places::Report)),
        ("posture", schema_for!(posture::Report)),
        ("shut", schema_for!(posture::Report)),
        ("turn-away", schema_for!(turning::Report)),
        ("programs", schema_for!(programs::Report)),
        ("reach", schema_for!(reach::Report)),
        ("rehearse", schema_for!(rehearse::Report)),
        ("release", schema_for!(transaction::Report)),
        ("report", schema_for!(report::Report)),
        ("revert", schema_for!(transaction::Report)),
        ("review", schema_for!(review::Report)),
        ("review-explain", schema_for!(review::Explanation)),
        ("rule", schema_for!(edit::Report)),
        ("rule-list", schema_for!(listing::RuleList)),
        ("rule-tighten", schema_for!(tighten::Report)),
        ("rule-show", schema_for!(listing::RuleShown)),
        ("service", schema_for!(edit::Report)),
        ("service-list", schema_for!(listing::NameList)),
        ("show", schema_for!(show::Report)),
        ("status", schema_for!(status::Report)),
        ("status-kernel", schema_for!(kernel::Report)),
        ("undo", schema_for!(edit::Report)),
        ("watch", schema_for!(watch::Decision)),
    ])
}

/// `TIPSTAFF_BLESS=1` writes them anew.
#[test]
fn the_forms_of_reports_are_documented() {
    let forms = forms();
    for (name, form) in &forms {
        let mut form = form.clone();
        form.insert("title".into(), format!("tipstaff {name} --format json").into());
        let text = serde_json::to_string_pretty(&form).expect("JSON") + "\n";
        let file = format!("{FOLDER}/{name}.json");
        if std::env::var_os("TIPSTAFF_BLESS").is_some() {
            fs::create_dir_all(FOLDER).expect("a folder");
            fs::write(&file, text).expect("written");
        } else {
            let kept = fs::read_to_string(&file).unwrap_or_default();
            assert!(kept == text, "docs/schema/{name}.json is not what the program writes");
        }
    }
    let kept = fs::read_dir(FOLDER).expect("a folder").count();
    assert_eq!(kept, forms.len(), "docs/schema has other files too");
    // What runs in the lab or at the far end writes no report.
    let silent = ["demo", "help", "vantage"];
    let command = tipstaff_cli::command();
    for name in
        command.get_subcommands().filter(|it| !it.is_hide_set()).map(clap::Command::get_name)
    {
        assert!(silent.contains(&name) || forms.contains_key(name), "{name} has no form");
    }
}

/// What is wrong with a value, held against its form.
struct Check<'s> {
    whole: &'s Schema,
    wrong: Vec<String>,
}

impl<'s> Check<'s> {
    fn named(&self, form: &'s Value) -> &'s Value {
        match form.get("$ref").and_then(Value::as_str) {
            Some(place) => {
                let name = place.strip_prefix("#/$defs/").expect("a definition");
                let defs = self.whole.get("$defs").expect("definitions");
                defs.get(name).expect("the definition")
            }
            None => form,
        }
    }

    /// The forms of an object's keys, those of forms that are taken into it included.
    fn keys(&self, form: &'s Value, keys: &mut BTreeMap<&'s str, &'s Value>) {
        let form = self.named(form);
        if let Some(Value::Object(own)) = form.get("properties") {
            keys.extend(own.iter().map(|(name, form)| (name.as_str(), form)));
        }
        for kind in ["allOf", "anyOf", "oneOf"] {
            for part in form.get(kind).and_then(Value::as_array).into_iter().flatten() {
                self.keys(part, keys);
            }
        }
    }

    fn has_kind(value: &Value, kind: &str) -> bool {
        match kind {
            "null" => value.is_null(),
            "boolean" => value.is_boolean(),
            "integer" => value.is_i64() || value.is_u64(),
            "number" => value.is_number(),
            "string" => value.is_string(),
            "array" => value.is_array(),
            "object" => value.is_object(),
            other => panic!("what is {other}?"),
        }
    }

    fn hold(&mut self, at: &str, value: &Value, form: &'s Value) {
        let form = self.named(form);
        let kinds: Vec<&str> = match form.get("type") {
            Some(Value::String(kind)) => vec![kind],
            Some(Value::Array(kinds)) => kinds.iter().filter_map(Value::as_str).collect(),
            _ => Vec::new(),
        };
        if !kinds.is_empty() && !kinds.iter().any(|it| Self::has_kind(value, it)) {
            self.wrong.push(format!("{at}: {value} is not {kinds:?}"));
        }
        if form.get("const").is_some_and(|it| it != value)
            || form.get("enum").and_then(Value::as_array).is_some_and(|it| !it.contains(value))
        {
            self.wrong.push(format!("{at}: {value} is no word for it"));
        }
        for kind in ["anyOf", "oneOf"] {
            let Some(forms) = form.get(kind).and_then(Value::as_array) else { continue };
            // A part of an object that may be left out is held against below, with the rest of it.
            if value.is_object() && form.get("properties").is_some() {
                continue;
            }
            let fits = forms.iter().any(|it| {
                let mut check = Check { whole: self.whole, wrong: Vec::new() };
                check.hold(at, value, it);
                check.wrong.is_empty()
            });
            if !fits {
                self.wrong.push(format!("{at}: {value} is none of those"));
            }
        }
        if let (Some(list), Some(items)) = (value.as_array(), form.get("items")) {
            list.iter().for_each(|it| self.hold(&format!("{at}[]"), it, items));
        }
        let (Some(object), Some(_)) = (value.as_object(), form.get("properties")) else { return };
        let mut keys = BTreeMap::new();
        self.keys(form, &mut keys);
        for needed in form.get("required").and_then(Value::as_array).into_iter().flatten() {
            if !object.contains_key(needed.as_str().unwrap_or_default()) {
                self.wrong.push(format!("{at}: {needed} is missing"));
            }
        }
        for (key, value) in object {
            match keys.get(key.as_str()) {
                Some(form) => self.hold(&format!("{at}.{key}"), value, form),
                None => self.wrong.push(format!("{at}: nobody knows {key}")),
            }
        }
    }
}

#[track_caller]
fn fits(name: &str, outcome: &Outcome) {
    let forms = forms();
    let form = &forms[name];
    let value = outcome.json();
    let mut check = Check { whole: form, wrong: Vec::new() };
    check.hold(name, &value, form.as_value());
    assert!(check.wrong.is_empty(), "{}", check.wrong.join("\n"));
}

#[test]
fn what_is_no_report_does_not_fit() {
    let forms = forms();
    let wrong = |change: &dyn Fn(&mut Value)| {
        let desk = Desk::with(MENDED);
        let shown = desk.run(["--format", "json", "--host", "sluice", "show"]).exits(0);
        let mut value = shown.json();
        change(&mut value);
        let mut check = Check { whole: &forms["show"], wrong: Vec::new() };
        check.hold("show", &value, forms["show"].as_value());
        check.wrong.join("\n")
    };
    assert_eq!(wrong(&|_| {}), "");
    let more = wrong(&|it| it["directions"][0]["more"] = 1.into());
    assert!(more.contains("nobody knows more"), "{more}");
    let word = wrong(&|it| it["directions"][0]["decisions"][0]["verdict"] = "perhaps".into());
    assert!(word.contains("\"perhaps\" is no"), "{word}");
    let less = wrong(&|it| {
        it.as_object_mut().expect("an object").remove("host");
    });
    assert!(less.contains("\"host\" is missing"), "{less}");
    let kind = wrong(&|it| it["host"] = 7.into());
    assert!(kind.contains("7 is not"), "{kind}");
}

#[test]
fn reports_about_policies_have_their_forms() {
    let desk = Desk::with(MENDED);
    let run = |words: &[&str]| {
        let mut all = vec!["--format", "json", "--host", "sluice"];
        all.extend(words);
        desk.run(all)
    };
    fits("show", &run(&["show"]));
    fits("review", &run(&["review"]));
    fits("review-explain", &run(&["review", "--explain", "shadowed"]));
    fits("ask", &run(&["ask", "--from", "203.0.113.66", "--traffic", "443/tcp"]));
    fits("ask-region", &run(&["ask", "--who", "443/tcp"]));
    fits("ask-region", &run(&["ask", "--why", "nuisance"]));
    fits("compare", &run(&["compare", "@granary"]));
    fits("rule-list", &run(&["rule", "list"]));
    fits("rule-show", &run(&["rule", "show", "catalogue"]));
    fits("rule", &run(&["rule", "add", "more", "--allow", "8080/tcp", "--dry-run"]));
    fits("rule", &run(&["rule", "remove", "shell", "--dry-run"]));
    fits("place-list", &run(&["place", "list"]));
    fits("place", &run(&["place", "add", "new", "--addresses", "203.0.113.9", "--dry-run"]));
    let refreshed = desk_with_list().run(["--format", "json", "place", "refresh"]);
    fits("place-refresh", &refreshed);
    fits("service-list", &run(&["service", "find", "dns"]));
    fits("service", &run(&["service", "add", "new", "--ports", "7/tcp", "--dry-run"]));
    fits("defaults", &run(&["defaults", "--inbound", "reject", "--dry-run"]));
    fits("defaults", &run(&["defaults", "--inbound", "reject"]));
    fits("undo", &run(&["undo"]));
    fits("host-list", &run(&["host", "list"]));
    fits("host", &run(&["host", "change", "sluice", "--labels", "edge", "--dry-run"]));
    fits("baseline", &run(&["baseline", "--ping", "deny", "--dry-run"]));
    fits("report", &run(&["report"]));
    fits("finding", &run(&["finding", "accept", "wide-open", "--why", "so", "--dry-run"]));
    fits("bundle", &run(&["bundle", "add", "staff"]));
    fits("bundle-list", &run(&["bundle", "list"]));
    fits("label", &run(&["label", "add", "edge", "--why", "so"]));
    fits("label-list", &run(&["label", "list"]));
    fits("interface", &run(&["interface", "add", "tunnel", "wg0"]));
    fits("interface-list", &run(&["interface", "list"]));
    fits("expect", &run(&["expect", "add", "deny", "7/tcp"]));
    fits("expect-list", &run(&["expect", "list"]));
}

#[test]
fn reports_about_a_machine_have_their_forms() {
    sealed("forms::reports_about_a_machine_have_their_forms", || {
        let lab = street_sluice_granary();
        let sluice = lab.node("sluice").expect("there");
        let desk = Desk::with(
            MENDED.replace("[[host.sluice.rule]]\nname = \"shell\"", "[[host.sluice.rule]]\nname = \"x\"\nallow = [\"7/tcp\"]\nprogram = \"/bin/true\"\n\n[[host.sluice.rule]]\nname = \"shell\""),
        );
        let run = |words: &[&str]| {
            let mut all = vec!["--format", "json", "--host", "sluice"];
            all.extend(words);
            desk.on(sluice, all)
        };
        let here = ["--even-if-locked-out", "--not-this-machine", "--without-programs"];
        let enforce = |words: &[&str]| {
            let mut all = vec!["enforce"];
            all.extend(here);
            all.extend(words);
            run(&all)
        };
        fits("draft", &run(&["draft"]));
        fits("export", &run(&["export", "--to", "acl"]));
        let plan = run(&["export", "--to", "json"]);
        fits("export-plan", &plan);
        let file = desk.path().join("plan.json");
        fs::write(&file, &plan.stdout).expect("written");
        let file = file.display().to_string();
        fits("adopt-plan", &run(&["adopt", &file, "--from", "json"]));
        fits("facts", &run(&["facts"]));
        fits("status", &run(&["status"]));
        fits("enforce", &enforce(&["--dry-run"]));
        fits("enforce", &enforce(&["--keep"]).exits(0));
        fits("enforce", &enforce(&["--keep"]).exits(0));
        fits("status", &run(&["status"]));
        fits("status-kernel", &run(&["status", "--kernel"]));
        let programs = run(&["programs"]);
        match programs.code {
            // Only root of the whole machine may look at what the kernel recognises.
            3 => assert_eq!(programs.json()["errors"][0]["code"], "system", "{}", programs.stdout),
            _ => fits("programs", &programs),
        }
        fits("cut", &run(&["cut", "--dry-run"]));
        fits("shut", &run(&["shut", "--for", "1h"]).exits(0));
        fits("posture", &run(&["posture", "show"]).exits(0));
        fits("status", &run(&["status"]));
        fits("posture", &run(&["posture", "leave"]).exits(0));
        let away = ["turn-away", "203.0.113.9", "--keep", "--even-if-locked-out", "--dry-run"];
        fits("turn-away", &run(&away));
        desk.run(["--host", "sluice", "rule", "add", "more", "--allow", "8080/tcp"]).exits(0);
        fits("enforce", &enforce(&["--confirm-within", "600"]).exits(0));
        fits("confirm", &run(&["confirm", "--even-if-locked-out"]).exits(0));
        fits("revert", &run(&["revert", "--keep", "--even-if-locked-out"]).exits(0));
        fits("docket", &run(&["docket"]).exits(0));
        fits("docket-show", &run(&["docket", "show", "1"]).exits(0));
        fits("docket-restore", &run(&["docket", "restore", "1", "--dry-run"]));
        fits("docket-mend", &run(&["docket", "mend"]));
        fits("enforce-boot", &run(&["enforce", "--boot"]));
        fits("reach", &run(&["reach"]));
        fits("review", &run(&["review", "--live"]));
        fits("report", &run(&["report", "--live"]));
        fits("rehearse", &run(&["rehearse", "--from", "203.0.113.66", "--traffic", "443/tcp"]));
        fits("release", &run(&["release", "--keep"]).exits(0));
    });
}

/// A policy with a place that comes from a file.
fn desk_with_list() -> Desk {
    let desk = Desk::with(
        "edition = 1\n[place.nuisance]\nfile = \"nuisance.txt\"\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
         [[host.sluice.rule]]\nname = \"catalogue\"\nallow = [\"443/tcp\"]\nfrom = [\"!nuisance\"]\n",
    );
    desk.put("nuisance.txt", "203.0.113.64/28\n");
    desk
}
