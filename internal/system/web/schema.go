package web

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/description"
	"evenledger/internal/system"
)

// readSchema reads what a schema document says of the fields, where the description names one: of the application's
// own server, or a file.
func (c *Client) readSchema(ctx context.Context) error {
	source := c.app.Account.Schema
	if source == "" {
		return nil
	}
	document, pointer, _ := strings.Cut(source, "#")
	var data []byte
	var err error
	if strings.Contains(document, "://") || strings.HasPrefix(document, "/") && !isFile(document) {
		var at *url.URL
		if at, err = c.elsewhere(document, c.base); err == nil {
			var got *answer
			if got, err = c.do(ctx, request{Call: &description.Call{Method: http.MethodGet}, at: at, safe: true}); err == nil {
				data = got.Body
			}
		}
	} else {
		data, err = os.ReadFile(document)
	}
	if err == nil {
		err = c.app.Learn(data, pointer)
	}
	var told *system.Unavailable
	if err != nil && !errors.As(err, &told) {
		return &account.Mistake{Message: fmt.Sprintf("the schema %s cannot be used: %s", source, err), Remedy: "Look at account: schema in the description."}
	}
	return err
}

func isFile(path string) bool {
	stat, err := os.Stat(path)
	return err == nil && stat.Mode().IsRegular()
}
