//! Where the running kernel keeps what the programs read.

use super::super::Btf;

/// Where the running kernel keeps what the programs read, in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Offsets {
    /// `task_struct.mm`
    pub(super) memory: u32,
    /// `task_struct.nsproxy`
    pub(super) namespaces: u32,
    /// `nsproxy.net_ns`
    pub(super) network: u32,
    /// `net.net_cookie`
    pub(super) cookie: u32,
    /// `task_struct.tgid`
    pub(super) process: u32,
    /// `task_struct.cred`
    pub(super) credentials: u32,
    /// `cred.fsuid`
    pub(super) user: u32,
    /// `mm_struct.exe_file`
    pub(super) file: u32,
    /// `file.f_inode`
    pub(super) inode: u32,
    /// `inode.i_ino`
    pub(super) number: u32,
    /// `inode.i_generation`
    pub(super) generation: u32,
    /// `inode.i_sb`
    pub(super) file_system: u32,
    /// `super_block.s_dev`
    pub(super) device: u32,
}

impl Offsets {
    /// Looks them up.
    ///
    /// # Errors
    /// The structure and the field that are not in the description.
    pub fn of(types: &Btf<'_>) -> Result<Self, (&'static str, &'static str)> {
        let find = |structure: &'static str, field: &'static str| {
            types.offset(structure, field).ok_or((structure, field))
        };
        Ok(Self {
            memory: find("task_struct", "mm")?,
            namespaces: find("task_struct", "nsproxy")?,
            network: find("nsproxy", "net_ns")?,
            cookie: find("net", "net_cookie")?,
            process: find("task_struct", "tgid")?,
            credentials: find("task_struct", "cred")?,
            user: find("cred", "fsuid")?,
            file: find("mm_struct", "exe_file")?,
            inode: find("file", "f_inode")?,
            number: find("inode", "i_ino")?,
            generation: find("inode", "i_generation")?,
            file_system: find("inode", "i_sb")?,
            device: find("super_block", "s_dev")?,
        })
    }
}
