package main

import (
	"encoding/csv"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"time"
)

// benchChanges times a post that changes every account, with bulk requests and without, against a bare loop of one PATCH
// for each.
func benchChanges(program, dir string) error {
	sheet, changed := filepath.Join(dir, "post.csv"), filepath.Join(dir, "changed.csv")
	err := errors.Join(generate(sheet, creates), os.WriteFile(filepath.Join(dir, "post.yaml"), []byte(postBrief), 0o644), promote(sheet, changed))
	if err != nil {
		return err
	}
	for _, bulk := range []int{0, 100} {
		var ratios, ours, bare []float64
		for range 3 {
			took, err := timeChanges(program, dir, sheet, changed, bulk)
			if err != nil {
				return err
			}
			ours, bare, ratios = append(ours, took[0]), append(bare, took[1]), append(ratios, took[1]/took[0])
		}
		fmt.Printf("changes %8d accounts changed, %s, answers after 2 ms: %5.2f s; bare loop of PATCH requests %5.2f s; changes/s against the bare loop %.2f (from %.2f to %.2f)\n", creates, map[bool]string{true: "in bulk", false: "one by one"}[bulk > 0], middle(ours), middle(bare), middle(ratios), least(ratios), most(ratios))
	}
	return nil
}

// promote writes a sheet anew in which everybody has another position.
func promote(sheet, changed string) (err error) {
	file, err := os.Open(sheet)
	if err != nil {
		return err
	}
	defer file.Close()
	rows, err := csv.NewReader(file).ReadAll()
	if err != nil {
		return err
	}
	for _, row := range rows[1:] {
		row[3] = "Harbour master"
	}
	out, err := os.Create(changed)
	if err != nil {
		return err
	}
	return errors.Join(csv.NewWriter(out).WriteAll(rows), out.Close())
}

// timeChanges makes accounts, and has each changed by a post, and then by a bare loop.
func timeChanges(program, dir, sheet, changed string, bulk int) (took [2]float64, err error) {
	url, stop, err := practice(program, dir, 2*time.Millisecond, bulk)
	if err != nil {
		return took, err
	}
	defer func() { err = errors.Join(err, stop()) }()
	if err = errors.Join(postTo(program, dir, sheet, url, nil), postTo(program, dir, changed, url, &took[0])); err != nil {
		return took, err
	}
	floor, err := measure(self("patch", url, strconv.Itoa(creates), strconv.Itoa(together)))
	took[1] = floor.wall.Seconds()
	return took, err
}

// patchOne changes one account of the practice application.
func patchOne(client *http.Client, url string, i int) error {
	return send(client, http.MethodPatch, fmt.Sprintf("%s/Users/u-%06d", url, i+1), map[string]any{
		"schemas":    []string{"urn:ietf:params:scim:api:messages:2.0:PatchOp"},
		"Operations": []any{map[string]any{"op": "replace", "path": "title", "value": "Second engineer"}},
	}, http.StatusOK)
}
