//! Curves of time over the number of rules, both on logarithmic scales, as an SVG file.

use std::fmt::Write;
use std::time::Duration;

/// One piece of work: how long it takes with so many rules.
pub struct Curve {
    pub name: &'static str,
    pub points: Vec<(usize, Duration)>,
}

const WIDTH: f64 = 1_080.0;
const HEIGHT: f64 = 640.0;
const LEFT: f64 = 80.0;
const RIGHT: f64 = 760.0;
const TOP: f64 = 60.0;
const BOTTOM: f64 = 570.0;
/// Powers of ten: rules, and seconds.
const RULES: (i32, i32) = (1, 5);
const SECONDS: (i32, i32) = (-5, 2);
/// Labels do not come nearer than this.
const LINE: f64 = 19.0;
const COLOURS: [&str; 6] = ["#0b5394", "#b45f06", "#38761d", "#85200c", "#4c1a86", "#3d3d3d"];
const DASHES: [&str; 2] = ["none", "7 4"];

fn place(value: f64, (low, high): (i32, i32), from: f64, to: f64) -> f64 {
    let share = (value.log10() - f64::from(low)) / f64::from(high - low);
    from + share.clamp(0.0, 1.0) * (to - from)
}

fn across(rules: usize) -> f64 {
    place(f64::from(u32::try_from(rules).unwrap_or(u32::MAX)), RULES, LEFT, RIGHT)
}

fn down(time: Duration) -> f64 {
    place(time.as_secs_f64(), SECONDS, BOTTOM, TOP)
}

/// The curves, each with its name where it ends.
pub fn of(curves: &[Curve]) -> String {
    let mut svg = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {WIDTH} {HEIGHT}\" \
         font-family=\"sans-serif\" font-size=\"14\">\n\
         <rect width=\"100%\" height=\"100%\" fill=\"white\"/>\n\
         <text x=\"{LEFT}\" y=\"32\" font-size=\"18\">Time of each piece of work as the policy grows</text>\n"
    );
    grid(&mut svg);
    let mut ends: Vec<(f64, usize)> = Vec::new();
    for (at, curve) in curves.iter().enumerate() {
        let points: Vec<String> = curve
            .points
            .iter()
            .map(|it| format!("{:.1},{:.1}", across(it.0), down(it.1)))
            .collect();
        let (colour, dash) = (COLOURS[at % COLOURS.len()], DASHES[at / COLOURS.len() % 2]);
        let _ = writeln!(
            svg,
            "<polyline points=\"{}\" fill=\"none\" stroke=\"{colour}\" stroke-width=\"2\" \
             stroke-dasharray=\"{dash}\"/>",
            points.join(" ")
        );
        ends.extend(curve.points.last().map(|it| (down(it.1), at)));
    }
    ends.sort_by(|a, b| a.0.total_cmp(&b.0));
    let mut free = TOP;
    for (height, at) in ends {
        let (curve, y) = (&curves[at], height.max(free));
        free = y + LINE;
        let Some(last) = curve.points.last() else { continue };
        let colour = COLOURS[at % COLOURS.len()];
        let dash = DASHES[at / COLOURS.len() % 2];
        let _ = writeln!(
            svg,
            "<path d=\"M{:.1} {height:.1} L{:.1} {y:.1} h24\" fill=\"none\" stroke=\"{colour}\" \
             stroke-dasharray=\"{dash}\"/><text x=\"{:.1}\" y=\"{:.1}\" fill=\"{colour}\">{}</text>",
            across(last.0),
            RIGHT + 16.0,
            RIGHT + 46.0,
            y + 5.0,
            curve.name
        );
    }
    svg.push_str("</svg>\n");
    svg
}

fn grid(svg: &mut String) {
    for power in RULES.0..=RULES.1 {
        let rules = 10_usize.pow(power.unsigned_abs());
        let x = across(rules);
        let _ = writeln!(
            svg,
            "<path d=\"M{x:.1} {TOP} V{BOTTOM}\" stroke=\"#ccc\"/><text x=\"{x:.1}\" y=\"{:.1}\" \
             text-anchor=\"middle\">{rules} rules</text>",
            BOTTOM + 22.0
        );
    }
    for power in SECONDS.0..=SECONDS.1 {
        let time = Duration::from_secs_f64(10_f64.powi(power));
        let y = down(time);
        let _ = writeln!(
            svg,
            "<path d=\"M{LEFT} {y:.1} H{RIGHT}\" stroke=\"#ccc\"/><text x=\"{:.1}\" y=\"{:.1}\" \
             text-anchor=\"end\">{time:.0?}</text>",
            LEFT - 8.0,
            y + 5.0
        );
    }
}
