package machine

// The types in this file are settings with a few words each; Words lists them, and an
// empty setting is the usual one.

// EndAction is what a guest does once its first boot is over.
type EndAction string

// The actions.
const (
	EndReboot   EndAction = "reboot"
	EndPowerOff EndAction = "power-off"
)

// Words lists the actions.
func (EndAction) Words() []string { return []string{string(EndReboot), string(EndPowerOff)} }

// NetworkWait says for which adapters a boot waits.
type NetworkWait string

// The waits.
const (
	WaitAll   NetworkWait = "all"
	WaitFirst NetworkWait = "first"
	WaitNone  NetworkWait = "none"
)

// Words lists the waits.
func (NetworkWait) Words() []string {
	return []string{string(WaitAll), string(WaitFirst), string(WaitNone)}
}

// RootLogin says whether root may log in by SSH.
type RootLogin string

// The settings.
const (
	RootOff  RootLogin = "off"
	RootKeys RootLogin = "keys"
	RootOn   RootLogin = "on"
)

// Words lists the settings.
func (RootLogin) Words() []string { return []string{string(RootOff), string(RootKeys), string(RootOn)} }

// WindowsArch is the processor architecture of a Windows guest.
type WindowsArch string

// Words lists the architectures.
func (WindowsArch) Words() []string { return []string{"amd64", "arm64"} }

// WindowsShell is what runs the commands of a Windows guest.
type WindowsShell string

// Words lists the shells.
func (WindowsShell) Words() []string { return []string{"cmd", "powershell"} }

// RemoteAccess is a way to reach a Windows guest from elsewhere.
type RemoteAccess string

// Words lists the ways.
func (RemoteAccess) Words() []string { return []string{"desktop", "management"} }

// HashMethod is an algorithm of crypt(5).
type HashMethod string

// The methods.
const (
	SHA512   HashMethod = "sha512"
	Yescrypt HashMethod = "yescrypt"
)

// Words lists the methods.
func (HashMethod) Words() []string { return []string{string(SHA512), string(Yescrypt)} }

// Filesystem is what a data disk is formatted with.
type Filesystem string

// Words lists the file systems; ntfs and refs are those of Windows.
func (Filesystem) Words() []string {
	return []string{"ext4", "xfs", "btrfs", "vfat", "ntfs", "refs"}
}

// IsWindows reports whether the file system is one of Windows.
func (f Filesystem) IsWindows() bool { return f == "ntfs" || f == "refs" }

// Emulator is what runs a machine.
type Emulator string

// Words lists the emulators.
func (Emulator) Words() []string { return []string{"kvm", "qemu"} }

// DiskBus is how disks are attached.
type DiskBus string

// Words lists the buses.
func (DiskBus) Words() []string { return []string{"virtio", "scsi", "sata"} }

// StageAs says who does a stage.
type StageAs string

// AsLogin is the login of the row.
const AsLogin StageAs = "login"

// Words lists those who can.
func (StageAs) Words() []string { return []string{"system", string(AsLogin)} }

// Clock is what the hardware clock of a machine shows.
type Clock string

// Local is the host's local time, as Windows has it.
const Local Clock = "localtime"

// Words lists the settings.
func (Clock) Words() []string { return []string{"utc", string(Local)} }

// ExtraAdapters says what becomes of the template's adapters that no row names.
type ExtraAdapters string

// The settings.
const (
	RemoveAdapters ExtraAdapters = "remove"
	UnplugAdapters ExtraAdapters = "unplugged"
)

// Words lists the settings.
func (ExtraAdapters) Words() []string {
	return []string{string(RemoveAdapters), string(UnplugAdapters)}
}

// SeedImage is the format of a seed.
type SeedImage string

// Words lists the formats.
func (SeedImage) Words() []string { return []string{"iso", "fat"} }
