package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"

	"github.com/rogpeppe/go-internal/testscript"

	"mintbatch/internal/library/registrytest"
)

// startRegistry starts a registry and adds it to the setup of a folder as the library `office`, with keys to sign with
// and to trust in the files signer and signer.pub: `registry DIR`. The script goes on only where one is installed.
func startRegistry(ts *testscript.TestScript, _ bool, args []string) {
	dir := ts.MkAbs("registry")
	ts.Check(os.MkdirAll(dir, 0o700))
	r, err := registrytest.Start(dir)
	if errors.Is(err, registrytest.ErrNone) {
		ts.Logf("skipped: %s", err)
		ts.Setenv("REGISTRY", "")
		return
	}
	ts.Check(err)
	ts.Defer(r.Stop)
	ts.Setenv("REGISTRY", r.Address)
	ts.Check(os.WriteFile(ts.MkAbs(args[0])+"/registry.password", []byte(registrytest.Password+"\n"), 0o600))
	addToSetup(ts, args[0], fmt.Sprintf("libraries:\n  office:\n    url: https://%s/templates\n    login: %s\n    password: file:registry.password\n    fingerprint: %s\n    signers: file:signer.pub\n    sign: file:signer\n", r.Address, registrytest.Login, r.Fingerprint))
}

// addToSetup adds a part to the setup of a folder.
func addToSetup(ts *testscript.TestScript, dir, text string) {
	f, err := os.OpenFile(ts.MkAbs(dir)+"/mintbatch.yaml", os.O_APPEND|os.O_WRONLY, 0)
	ts.Check(err)
	_, err = f.WriteString(text)
	ts.Check(errors.Join(err, f.Close()))
}

// condition is what scripts ask for: whether they run as root, and whether a program is installed.
func condition(name string) (bool, error) {
	if name == "root" {
		return os.Getuid() == 0, nil
	}
	_, err := exec.LookPath(name)
	return err == nil, nil
}
