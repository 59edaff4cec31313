package main

import (
	"encoding/pem"
	"os"
	"path/filepath"
	"strings"

	"github.com/rogpeppe/go-internal/testscript"

	"mintbatch/internal/core/secret"
)

// domain writes into a setup the fingerprint of the domain controller that runs beside the tests: `domain SETUP`. `$DOMAIN` is its
// configuration.
func domain(ts *testscript.TestScript, _ bool, args []string) {
	dc := filepath.Join(os.Getenv("MINTBATCH_REAL_DOMAIN"), "dc")
	ts.Setenv("DOMAIN", filepath.Join(dc, "etc", "smb.conf"))
	content, err := os.ReadFile(filepath.Join(dc, "private", "tls", "cert.pem"))
	ts.Check(err)
	block, _ := pem.Decode(content)
	setup := ts.MkAbs(args[0])
	text, err := os.ReadFile(setup)
	ts.Check(err)
	ts.Check(os.WriteFile(setup, []byte(strings.ReplaceAll(string(text), "PRINT", secret.FingerprintOf(block.Bytes).String())), 0o600))
}
