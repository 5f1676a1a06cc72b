//! `enum nf_tables_msg_types` (linux/netfilter/nf_tables.h), with the subsystem put in.

/// `NFNL_SUBSYS_NFTABLES`.
pub(crate) const SUBSYSTEM: u16 = 10;

/// `NFT_MSG_NEWTABLE`.
pub const NEW_TABLE: u16 = SUBSYSTEM << 8;
/// `NFT_MSG_GETTABLE`.
pub const GET_TABLE: u16 = SUBSYSTEM << 8 | 1;
/// `NFT_MSG_DELTABLE`.
pub const DELETE_TABLE: u16 = SUBSYSTEM << 8 | 2;
/// `NFT_MSG_NEWCHAIN`.
pub const NEW_CHAIN: u16 = SUBSYSTEM << 8 | 3;
/// `NFT_MSG_GETCHAIN`.
pub const GET_CHAIN: u16 = SUBSYSTEM << 8 | 4;
/// `NFT_MSG_DELCHAIN`.
pub(crate) const DELETE_CHAIN: u16 = SUBSYSTEM << 8 | 5;
/// `NFT_MSG_NEWRULE`.
pub const NEW_RULE: u16 = SUBSYSTEM << 8 | 6;
/// `NFT_MSG_GETRULE`.
pub const GET_RULE: u16 = SUBSYSTEM << 8 | 7;
/// `NFT_MSG_DELRULE`.
pub(crate) const DELETE_RULE: u16 = SUBSYSTEM << 8 | 8;
/// `NFT_MSG_NEWSET`.
pub const NEW_SET: u16 = SUBSYSTEM << 8 | 9;
/// `NFT_MSG_GETSET`.
pub const GET_SET: u16 = SUBSYSTEM << 8 | 10;
/// `NFT_MSG_DELSET`.
pub(crate) const DELETE_SET: u16 = SUBSYSTEM << 8 | 11;
/// `NFT_MSG_NEWSETELEM`.
pub const NEW_ELEMENTS: u16 = SUBSYSTEM << 8 | 12;
/// `NFT_MSG_GETSETELEM`.
pub const GET_ELEMENTS: u16 = SUBSYSTEM << 8 | 13;
/// `NFT_MSG_DELSETELEM`.
pub(crate) const DELETE_ELEMENTS: u16 = SUBSYSTEM << 8 | 14;
/// `NFT_MSG_TRACE`.
pub const TRACE: u16 = SUBSYSTEM << 8 | 17;
/// `NFT_MSG_NEWOBJ`.
pub const NEW_OBJECT: u16 = SUBSYSTEM << 8 | 18;
/// `NFT_MSG_GETOBJ`.
pub const GET_OBJECT: u16 = SUBSYSTEM << 8 | 19;
/// `NFT_MSG_NEWFLOWTABLE`.
pub(crate) const NEW_FLOW_TABLE: u16 = SUBSYSTEM << 8 | 22;
/// `NFT_MSG_GETFLOWTABLE`.
pub(crate) const GET_FLOW_TABLE: u16 = SUBSYSTEM << 8 | 23;
/// `NFT_MSG_NEWGEN`.
pub const NEW_GENERATION: u16 = SUBSYSTEM << 8 | 15;
/// `NFT_MSG_GETGEN`.
pub const GET_GENERATION: u16 = SUBSYSTEM << 8 | 16;
