//! A document as a policy.

use super::model::Document;
use super::read::plan;
use crate::Failure;
use crate::vocabulary as say;
use serde::Serialize;
use tipstaff_core::restate::{Restated, Unsaid, restate};

/// A policy that means what a plan does.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Taken {
    /// The text of the policy, ready to be saved.
    pub policy: String,
    /// The host that it is for.
    pub host: String,
    /// The moment for which the plan was worked out (RFC 3339).
    pub at: String,
    /// The posture in which it was taken: that is what the policy says always; `null`: in none.
    pub posture: Option<String>,
    /// How many rules it has.
    pub rules: usize,
    /// The decisions that are left out since they take nothing: nobody is at their places, or their time is over.
    pub nobody: Vec<Nobody>,
}

/// A decision that takes nothing.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Nobody {
    /// `inbound`, `outbound` or `forwarded`.
    pub direction: say::Direction,
    /// Its name.
    pub name: String,
}

/// Whether a text is such a document, as far as can be told without reading it all as one.
pub fn is_plan(text: &str) -> bool {
    #[derive(serde::Deserialize)]
    struct Form {
        form: String,
    }
    serde_json::from_str::<Form>(text).is_ok_and(|it| it.form.starts_with("tipstaff-plan/"))
}

/// The policy that means what the document says.
///
/// # Errors
/// [`Failure`] if it is no such document, or says what no policy can say.
pub fn from_plan(name: &str, text: &str) -> Result<Taken, Failure> {
    let named = name.escape_debug();
    let refused = |why: String| {
        Failure::usage(
            format!("{named}: no plan: {why}"),
            "expected what `tipstaff export --to json` writes (docs/schema/export-plan.json)",
        )
    };
    let document: Document = serde_json::from_str(text)
        .map_err(|it| refused(it.to_string().escape_debug().to_string()))?;
    let (plan, now) = plan(&document).map_err(refused)?;
    let Restated { policy, rules, idle } = restate(&plan, now).map_err(|unsaid| {
        let words: Vec<String> = unsaid.iter().map(told).collect();
        Failure::usage(
            format!("{named}: no policy says that: {}", words.join("; ")),
            "it was changed since it was written, or written by something else",
        )
    })?;
    let nobody = |(direction, name): (tipstaff_core::space::Direction, String)| Nobody {
        direction: direction.into(),
        name,
    };
    Ok(Taken {
        policy,
        host: document.host,
        at: document.at,
        posture: document.posture,
        rules,
        nobody: idle.into_iter().map(nobody).collect(),
    })
}

fn told(it: &Unsaid) -> String {
    let name = it.name.escape_debug();
    match it.direction {
        Some(direction) => format!("{name} ({direction}): {}", it.why.escape_debug()),
        None => format!("{name}: {}", it.why.escape_debug()),
    }
}
