package machine

import "slices"

// ofSystem are the users and groups that Debian (base-passwd), Fedora and SUSE (setup,
// system-user) come with, but root.
var ofSystem = []string{"adm", "audio", "backup", "bin", "cdrom", "crontab", "daemon", "dialout", "dip", "disk", "fax", "floppy", "ftp", "games", "gnats", "halt", "input", "irc", "kmem",
	"kvm", "list", "lock", "lp", "mail", "man", "news", "nobody", "nogroup", "nullmail", "operator", "plugdev", "proxy", "render", "sasl", "sgx", "shadow", "shutdown", "src", "sshd", "staff",
	"sudo", "sync", "sys", "tape", "tty", "users", "utmp", "uucp", "video", "voice", "wheel", "www-data"}

// OfSystem reports whether most Linux systems have a user or group of a name, so that no login
// of that name can be created.
func OfSystem(login string) bool { return slices.Contains(ofSystem, login) }
