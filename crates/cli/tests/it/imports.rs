//! Which file uses which, and that none does so in a circle.

use proc_macro2::{TokenStream, TokenTree};
use quote::ToTokens;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use syn::spanned::Spanned;
use syn::visit::{self, Visit};
use syn::{Attribute, Item, UseTree, Visibility};

const ROOT: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");

/// A path of names, from the crate's root.
type Names = Vec<String>;

/// What a file says about names.
#[derive(Default)]
struct Module {
    file: String,
    /// The modules in it.
    children: BTreeSet<String>,
    /// What a name stands for that was imported, from the crate's root.
    imported: BTreeMap<String, Names>,
    /// Those of them that it does not only hand on.
    own: Vec<Names>,
    /// Every path of names that is used, as written.
    used: Vec<Names>,
}

/// A crate's modules, by their place.
#[derive(Default)]
struct Crate {
    modules: BTreeMap<Names, Module>,
}

fn is_for_tests(attributes: &[Attribute]) -> bool {
    attributes.iter().any(|it| it.to_token_stream().to_string().contains("test"))
}

/// Every `a::b::c` in a text, in macros too.
fn paths(tokens: TokenStream, found: &mut Vec<Names>) {
    let mut path = Names::new();
    let mut colons = 0;
    for token in tokens {
        match token {
            TokenTree::Ident(name) => {
                if colons != 2 {
                    found.push(std::mem::take(&mut path));
                }
                path.push(name.to_string());
                colons = 0;
            }
            TokenTree::Punct(it) if it.as_char() == ':' => colons += 1,
            other => {
                found.push(std::mem::take(&mut path));
                colons = 0;
                if let TokenTree::Group(group) = other {
                    paths(group.stream(), found);
                }
            }
        }
    }
    found.push(path);
    found.retain(|it| it.len() > 1);
}

impl Crate {
    fn of(name: &str) -> Self {
        let mut it = Self::default();
        let source = format!("{ROOT}/crates/{name}/src");
        it.read(Path::new(&source), Path::new(&format!("{source}/lib.rs")), &Vec::new());
        it
    }

    fn read(&mut self, source: &Path, file: &Path, place: &Names) {
        let text = fs::read_to_string(file).unwrap_or_else(|error| panic!("{file:?}: {error}"));
        let parsed = syn::parse_file(&text).unwrap_or_else(|error| panic!("{file:?}: {error}"));
        let shown = file.strip_prefix(source).expect("inside").display().to_string();
        let folder = match file.file_stem().and_then(|it| it.to_str()) {
            Some("lib" | "mod") => file.parent().expect("a folder").to_owned(),
            _ => file.with_extension(""),
        };
        for child in self.take_in(&shown, parsed.items, place) {
            let mut inner = place.clone();
            inner.push(child.clone());
            let flat = folder.join(format!("{child}.rs"));
            let deep = folder.join(&child).join("mod.rs");
            self.read(source, if flat.exists() { &flat } else { &deep }, &inner);
        }
    }

    /// Notes what a module says; those of its modules that are files of their own.
    fn take_in(&mut self, file: &str, items: Vec<Item>, place: &Names) -> Vec<String> {
        let mut module = Module { file: file.to_owned(), ..Module::default() };
        let mut files = Vec::new();
        let mut rest = Vec::new();
        for item in items {
            match item {
                Item::Mod(it) if is_for_tests(&it.attrs) => {}
                Item::Mod(it) => {
                    let name = it.ident.to_string();
                    module.children.insert(name.clone());
                    match it.content {
                        None => files.push(name),
                        Some((_, items)) => {
                            let mut inner = place.clone();
                            inner.push(name);
                            files.extend(self.take_in(file, items, &inner));
                        }
                    }
                }
                Item::Use(it) => rest.push((matches!(it.vis, Visibility::Inherited), it.tree)),
                other => paths(other.to_token_stream(), &mut module.used),
            }
        }
        for (own, tree) in rest {
            let known: BTreeSet<String> = module.imported.keys().cloned().collect();
            Self::import(&tree, &mut Vec::new(), place, &mut module);
            let new = module.imported.iter().filter(|it| own && !known.contains(it.0));
            module.own.extend(new.map(|it| it.1.clone()));
        }
        self.modules.insert(place.clone(), module);
        files
    }

    fn import(tree: &UseTree, before: &mut Names, place: &Names, module: &mut Module) {
        let mut leaf = |name: String, called: String, before: &Names| {
            let mut path = before.clone();
            if name != "self" {
                path.push(name);
            }
            if let Some(path) = from_root(&path, place, &module.children) {
                let called = if called == "self" { path.last().cloned() } else { Some(called) };
                module.imported.insert(called.unwrap_or_default(), path);
            }
        };
        match tree {
            UseTree::Path(it) => {
                before.push(it.ident.to_string());
                Self::import(&it.tree, before, place, module);
                before.pop();
            }
            UseTree::Group(it) => {
                for tree in &it.items {
                    Self::import(tree, before, place, module);
                }
            }
            UseTree::Name(it) => leaf(it.ident.to_string(), it.ident.to_string(), before),
            UseTree::Rename(it) => leaf(it.ident.to_string(), it.rename.to_string(), before),
            // The lints allow none, except of others' enums and in tests.
            UseTree::Glob(_) => {}
        }
    }

    /// The file in which what a path stands for is written, if it is of this crate.
    fn file_of(&self, path: &[String], depth: usize) -> Option<&str> {
        assert!(depth < 40, "{path:?} leads nowhere");
        let known = (0..=path.len()).rev().find(|&it| self.modules.contains_key(&path[..it]))?;
        let module = &self.modules[&path[..known]];
        // The module itself: what is used of it says more.
        let (name, rest) = path[known..].split_first()?;
        if let Some(whole) = module.imported.get(name) {
            let whole: Names = whole.iter().chain(rest).cloned().collect();
            return (whole[..] != *path).then(|| self.file_of(&whole, depth + 1)).flatten();
        }
        Some(&module.file)
    }

    /// For each file, those that it uses.
    fn graph(&self) -> BTreeMap<&str, BTreeSet<&str>> {
        let mut graph: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
        for (place, module) in &self.modules {
            let written = module.used.iter().filter_map(|path| {
                if let Some(whole) = module.imported.get(&path[0]) {
                    return Some(whole.iter().chain(&path[1..]).cloned().collect());
                }
                from_root(path, place, &module.children)
            });
            let all = module.own.iter().cloned().chain(written);
            let from = graph.entry(&module.file).or_default();
            for path in all {
                from.extend(self.file_of(&path, 0).filter(|it| *it != module.file));
            }
        }
        graph
    }
}

/// A path from the crate's root; nothing if it leads out of it.
fn from_root(path: &[String], place: &[String], children: &BTreeSet<String>) -> Option<Names> {
    let ups = path.iter().take_while(|it| *it == "super").count();
    let names = match path.first()?.as_str() {
        "crate" => path[1..].to_vec(),
        "self" => place.iter().chain(&path[1..]).cloned().collect(),
        "super" => {
            place[..place.len().checked_sub(ups)?].iter().chain(&path[ups..]).cloned().collect()
        }
        first if children.contains(first) => place.iter().chain(path).cloned().collect(),
        _ => return None,
    };
    Some(names)
}

/// A way from a file back to it, if there is one.
fn circle<'g>(graph: &BTreeMap<&'g str, BTreeSet<&'g str>>, from: &'g str) -> Option<Vec<&'g str>> {
    let mut ways = vec![vec![from]];
    let mut seen = BTreeSet::new();
    while let Some(way) = ways.pop() {
        for next in graph.get(way[way.len() - 1]).into_iter().flatten() {
            if *next == from {
                return Some(way);
            }
            if seen.insert(*next) {
                ways.push(way.iter().copied().chain([*next]).collect());
            }
        }
    }
    None
}

#[test]
fn no_two_files_use_each_other() {
    let mut circles = Vec::new();
    for name in ["core", "wire", "linux", "app", "cli"] {
        let all = Crate::of(name);
        let graph = all.graph();
        assert!(graph.len() > 20, "only {} files of {name}", graph.len());
        let uses: usize = graph.values().map(BTreeSet::len).sum();
        assert!(uses > graph.len(), "only {uses} uses in {name}");
        for file in graph.keys() {
            circles.extend(circle(&graph, file).map(|it| format!("{name}: {}", it.join(" -> "))));
        }
    }
    assert!(circles.is_empty(), "{}", circles.join("\n"));
}

/// The sources below a folder, tests and benchmarks included.
fn rust_files(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).expect("a folder").flatten() {
        let path = entry.path();
        if path.is_dir() && !path.ends_with("target") {
            rust_files(&path, found);
        } else if path.extension().is_some_and(|it| it == "rs") {
            found.push(path);
        }
    }
}

/// Lines that are neither empty nor only a comment.
fn lines_of_code<'t>(lines: impl IntoIterator<Item = &'t str>) -> usize {
    lines.into_iter().map(str::trim).filter(|it| !it.is_empty() && !it.starts_with("//")).count()
}

/// The functions of a text, by name, with their lines.
struct Functions<'t> {
    lines: Vec<&'t str>,
    found: Vec<(String, usize)>,
}

impl Functions<'_> {
    fn add(&mut self, name: &syn::Ident, span: proc_macro2::Span) {
        let (first, last) = (span.start().line - 1, span.end().line);
        let lines = lines_of_code(self.lines[first..last].iter().copied());
        self.found.push((name.to_string(), lines));
    }
}

impl<'a> Visit<'a> for Functions<'_> {
    fn visit_item_fn(&mut self, it: &'a syn::ItemFn) {
        self.add(&it.sig.ident, it.span());
        visit::visit_item_fn(self, it);
    }

    fn visit_impl_item_fn(&mut self, it: &'a syn::ImplItemFn) {
        self.add(&it.sig.ident, it.span());
        visit::visit_impl_item_fn(self, it);
    }
}

#[test]
fn files_and_functions_stay_short() {
    let mut sources = Vec::new();
    for folder in ["crates", "fuzz", "kernels", "packaging", "tests"] {
        rust_files(&Path::new(ROOT).join(folder), &mut sources);
    }
    let mut long = Vec::new();
    let mut rather_long = 0;
    for file in &sources {
        let text = fs::read_to_string(file).expect("text");
        let shown = file.display();
        let lines = lines_of_code(text.lines());
        rather_long += usize::from(lines > 300);
        if lines > 400 {
            long.push(format!("{shown}: {lines} lines"));
        }
        let mut functions = Functions { lines: text.lines().collect(), found: Vec::new() };
        functions.visit_file(&syn::parse_file(&text).expect("parses"));
        let found = functions.found.into_iter().filter(|it| it.1 > 80);
        long.extend(found.map(|it| format!("{shown}: {} has {}", it.0, it.1)));
    }
    let files = sources.len();
    assert!(files > 450, "only {files} files were found");
    assert!(long.is_empty(), "{}", long.join("\n"));
    assert!(rather_long * 20 <= files, "{rather_long} of {files} files have more than 300 lines");
}
