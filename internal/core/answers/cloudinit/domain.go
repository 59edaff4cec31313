package cloudinit

import (
	"fmt"
	"strings"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/machine"
)

// accountFile has the password of the machine's account until the guest has joined, which changes it.
const accountFile = "/etc/mintbatch.account"

// joinCommand joins a Windows domain with the account that stands there, and ends the first boot if that fails.
func joinCommand(g machine.Guest) string {
	return fmt.Sprintf("adcli join --domain=%s --computer-name=%s --host-fqdn=%s --login-type=computer --stdin-password <%s; joined=$?; rm -f %[4]s; [ $joined = 0 ] || exit $joined",
		answers.ShellQuoted(g.Joins), answers.ShellQuoted(strings.ToUpper(g.Hostname)), answers.ShellQuoted(g.FQDN()), accountFile)
}
