//! Where a mistake can be made.

use proc_macro2::Span;
use syn::spanned::Spanned;
use syn::visit::{self, Visit};
use syn::{
    Attribute, BinOp, Expr, ExprBinary, ExprIf, ExprUnary, ImplItemFn, ItemConst, ItemFn, ItemMod,
    Lit, Stmt, UnOp,
};

/// A change of one place.
pub struct Place {
    /// The line.
    pub line: usize,
    /// Where the bytes begin that are changed.
    start: usize,
    /// What is there.
    from: String,
    /// What takes its place.
    to: String,
}

impl Place {
    /// The change, in a line.
    pub fn words(&self) -> String {
        let short = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
        format!("`{}` becomes `{}`", short(&self.from), short(&self.to))
    }

    /// The text with the change.
    pub fn applied(&self, text: &str) -> String {
        let (before, rest) = text.split_at(self.start);
        format!("{before}{}{}", self.to, &rest[self.from.len()..])
    }
}

struct Finder<'t> {
    text: &'t str,
    found: Vec<Place>,
}

impl Finder<'_> {
    fn add(&mut self, span: Span, to: impl Into<String>) {
        let range = span.byte_range();
        let Some(from) = self.text.get(range.clone()) else { return };
        if from.len() < 400 {
            let (from, to) = (from.to_owned(), to.into());
            self.found.push(Place { line: span.start().line, start: range.start, from, to });
        }
    }

    fn text_of(&self, span: Span) -> String {
        self.text.get(span.byte_range()).unwrap_or_default().to_owned()
    }
}

fn is_for_tests(attributes: &[Attribute]) -> bool {
    attributes.iter().any(|it| it.path().is_ident("test") || it.path().is_ident("cfg"))
}

impl<'a> Visit<'a> for Finder<'_> {
    fn visit_item_mod(&mut self, it: &'a ItemMod) {
        if !is_for_tests(&it.attrs) {
            visit::visit_item_mod(self, it);
        }
    }

    fn visit_item_fn(&mut self, it: &'a ItemFn) {
        if !is_for_tests(&it.attrs) {
            visit::visit_item_fn(self, it);
        }
    }

    fn visit_impl_item_fn(&mut self, it: &'a ImplItemFn) {
        if !is_for_tests(&it.attrs) {
            visit::visit_impl_item_fn(self, it);
        }
    }

    fn visit_item_const(&mut self, it: &'a ItemConst) {
        // A number that has a name.
        if let Expr::Lit(value) = &*it.expr {
            self.visit_expr_lit(value);
        }
    }

    fn visit_expr_binary(&mut self, it: &'a ExprBinary) {
        let to = match it.op {
            BinOp::Eq(_) => "!=",
            BinOp::Ne(_) => "==",
            BinOp::Lt(_) => "<=",
            BinOp::Le(_) => "<",
            BinOp::Gt(_) => ">=",
            BinOp::Ge(_) => ">",
            BinOp::And(_) => "||",
            BinOp::Or(_) => "&&",
            BinOp::Add(_) => "-",
            BinOp::Sub(_) => "+",
            BinOp::Mul(_) => "/",
            BinOp::BitAnd(_) => "|",
            BinOp::BitOr(_) => "&",
            BinOp::AddAssign(_) => "-=",
            BinOp::SubAssign(_) => "+=",
            _ => "",
        };
        if !to.is_empty() {
            self.add(it.op.span(), to);
        }
        visit::visit_expr_binary(self, it);
    }

    fn visit_expr_unary(&mut self, it: &'a ExprUnary) {
        if let UnOp::Not(_) = it.op {
            let inner = self.text_of(it.expr.span());
            self.add(it.span(), inner);
        }
        visit::visit_expr_unary(self, it);
    }

    fn visit_expr_if(&mut self, it: &'a ExprIf) {
        if !matches!(&*it.cond, Expr::Let(_)) && !self.text_of(it.cond.span()).contains("let ") {
            let condition = self.text_of(it.cond.span());
            self.add(it.cond.span(), format!("!({condition})"));
        }
        visit::visit_expr_if(self, it);
    }

    fn visit_expr_lit(&mut self, it: &'a syn::ExprLit) {
        match &it.lit {
            Lit::Bool(value) => self.add(value.span(), if value.value { "false" } else { "true" }),
            Lit::Int(number) => {
                if let Ok(value) = number.base10_parse::<u128>() {
                    self.add(number.span(), format!("{}{}", value + 1, number.suffix()));
                }
            }
            _ => {}
        }
    }

    fn visit_stmt(&mut self, it: &'a Stmt) {
        // Something that is done for what it changes.
        if let Stmt::Expr(Expr::MethodCall(_) | Expr::Call(_), Some(_)) = it {
            self.add(it.span(), "");
        }
        visit::visit_stmt(self, it);
    }
}

/// Every place of a text where a mistake can be made.
pub fn places(text: &str) -> Vec<Place> {
    let Ok(file) = syn::parse_file(text) else { return Vec::new() };
    let mut finder = Finder { text, found: Vec::new() };
    finder.visit_file(&file);
    finder.found
}
