package sandbox

import (
	"bytes"
	"encoding/json"
	"net/http"
	"time"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/pattern"
)

// homeURL finds in a guest's files where it is to report.
var homeURL = pattern.Lazy(`http://[^\s'"]+/v1/home/[0-9a-f]{16,}`)

// callHome lets a guest report by itself once it has booted, and again until somebody has
// heard, or it is not waited for any more.
func (s *Sandbox) callHome(url string, report contract.Report, stages []stage, booted time.Time) {
	time.Sleep(time.Until(booted))
	for !s.stagesAt(stages, booted, time.Now(), &report) || len(stages) > 0 && !report.StagesOver {
		if n := len(report.Stages); n > 0 && report.Stages[n-1].State == "failed" {
			break
		}
		report.Stages = nil
		time.Sleep(10 * time.Millisecond)
	}
	body, err := json.Marshal(report)
	if err != nil { // only values of our own types, which marshal
		panic(err)
	}
	client := http.Client{Timeout: 10 * time.Second}
	for range 600 {
		answer, err := client.Post(url, "application/json", bytes.NewReader(body))
		if err == nil {
			_ = answer.Body.Close()
			if answer.StatusCode < 300 || answer.StatusCode == http.StatusForbidden {
				return
			}
		}
		time.Sleep(100 * time.Millisecond)
	}
}
