//! How a table of attributes becomes a type, and what writes and reads it.

/// Makes the expressions of a table: the type, the kernel's names, writing and reading. What is not all fields is
/// written and read by `write_other` and `read_other` where the table stands.
macro_rules! expressions {
    ($(
        $(#[$about:meta])*
        $variant:ident = $name:literal {
            $($(#[$meaning:meta])* $number:literal $attribute:literal $form:ident => $field:ident,)*
        } also [$($also:expr),*];
    )*) => {
        /// One step of a rule.
        #[derive(Clone, Debug, PartialEq, Eq)]
        pub enum Expression {
            $(
                $(#[$about])*
                $variant {
                    $($(#[$meaning])* $field: <$form as Form>::Value,)*
                },
            )*
            /// Goes on while a rate is kept.
            Limit(Limit),
            /// Drops the packet and answers.
            Reject {
                /// The kind of answer that is sent.
                kind: RejectKind,
                /// The ICMP code, where there is one.
                code: u8,
            },
            /// Gives this verdict to the packet.
            Immediate(Verdict),
            /// An expression that is not known here, kept as it came.
            Other {
                /// The name that the kernel has for it.
                name: String,
                /// Its attributes, as they came.
                data: Vec<u8>,
            },
        }

        /// The kernel's name of an expression.
        pub(super) fn name(expression: &Expression) -> &str {
            match expression {
                $(Expression::$variant { .. } => $name,)*
                Expression::Limit(_) => NAMED,
                Expression::Reject { .. } => "reject",
                Expression::Immediate(_) => "immediate",
                Expression::Other { name, .. } => name,
            }
        }

        /// Writes an expression with its name and attributes.
        pub(super) fn write(expression: &Expression, out: &mut Writer) {
            match expression {
                $(Expression::$variant { $($field),* } => {
                    $($form::write(out, $number, $field);)*
                    let also: &[Also] = &[$($also),*];
                    also.iter().for_each(|it| it.write(out));
                })*
                other => write_other(other, out),
            }
        }

        /// Reads the attributes of an expression; `None` if not all of it can be held.
        ///
        /// # Errors
        /// [`WireError`] if it is malformed.
        pub(super) fn read(name: &str, parts: &Parts<'_>) -> Result<Option<Expression>, WireError> {
            // Some kinds of one expression are told apart by their attributes.
            $(if name == $name && $($form::holds(parts, $number))&&* {
                let also: &[Also] = &[$($also),*];
                let mut all = true;
                for it in also {
                    all &= it.holds(parts)?;
                }
                if all {
                    return Ok(Some(Expression::$variant {
                        $($field: $form::read(parts, $number, $attribute)?,)*
                    }));
                }
            })*
            read_other(name, parts)
        }
    };
}
pub(super) use expressions;
