package main

import (
	"bufio"
	"encoding/json"
	"os"
)

// result is what came of a task, in seconds and bytes; what was not done by hand is 0.
type result struct {
	Engine    string  `json:"engine"`
	Size      int     `json:"size"` // records
	Task      string  `json:"task"`
	Anagram   float64 `json:"anagram"` // seconds, median
	Hand      float64 `json:"by_hand"`
	Processor float64 `json:"processor"`
	Peak      int64   `json:"peak"` // bytes, the most of all runs
}

// keep adds a result to a file, one line of JSON each.
func (r result) keep(path string) error {
	f, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if err := json.NewEncoder(f).Encode(r); err != nil {
		_ = f.Close()
		return err
	}
	return f.Close()
}

// results reads such a file. Of the same task measured twice the later counts.
func results(path string) ([]result, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	type of struct {
		engine, task string
		size         int
	}
	at := map[of]int{}
	var out []result
	for lines := bufio.NewScanner(f); lines.Scan(); {
		var r result
		if err := json.Unmarshal(lines.Bytes(), &r); err != nil {
			return nil, err
		}
		key := of{r.Engine, r.Task, r.Size}
		if i, known := at[key]; known {
			out[i] = r
			continue
		}
		at[key] = len(out)
		out = append(out, r)
	}
	return out, nil
}
