package probe

import (
	"context"
	"errors"
	"net/netip"
	"strings"
	"sync"

	"github.com/miekg/dns"
)

// askDNS asks the DNS servers for the names of addresses. Any server's answer
// counts.
func askDNS(ctx context.Context, all []netip.Addr, o Options) (map[netip.Addr]string, error) {
	if len(o.Servers) == 0 {
		return nil, errors.New("the network has no DNS server")
	}
	found := map[netip.Addr]string{}
	var failure error
	var mu sync.Mutex
	var asked sync.WaitGroup
	slots := make(chan struct{}, 32)
	for _, a := range all {
		slots <- struct{}{}
		asked.Go(func() {
			defer func() { <-slots }()
			name, err := nameOf(ctx, a, o)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				failure = err
			} else if name != "" {
				found[a] = name
			}
		})
	}
	asked.Wait()
	return found, failure
}

// nameOf asks one server after the other until one answers.
func nameOf(ctx context.Context, a netip.Addr, o Options) (string, error) {
	zone, err := dns.ReverseAddr(a.String())
	if err != nil {
		return "", err
	}
	q := new(dns.Msg).SetQuestion(zone, dns.TypePTR)
	client := dns.Client{Timeout: o.Wait}
	for _, server := range o.Servers {
		var answer *dns.Msg
		if answer, _, err = client.ExchangeContext(ctx, q, server.String()); err != nil {
			continue
		}
		if answer.Rcode != dns.RcodeSuccess && answer.Rcode != dns.RcodeNameError {
			err = errors.New("the server answers " + dns.RcodeToString[answer.Rcode])
			continue
		}
		for _, r := range answer.Answer {
			if ptr, ok := r.(*dns.PTR); ok {
				return strings.TrimSuffix(ptr.Ptr, "."), nil
			}
		}
		return "", nil
	}
	return "", err
}
