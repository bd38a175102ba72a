package fill

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
)

// Trial asks an endpoint whether it takes a secret, by one GET request with the secret as a bearer
// token (RFC 6750). The request goes to the endpoint itself and is not led on elsewhere. Refused is
// true if the answer is 401 or 403.
func Trial(ctx context.Context, client *http.Client, endpoint,
	secret string) (verdict string, refused bool) {
	u, err := url.Parse(endpoint)
	if err != nil || u.Host == "" {
		return "not tried: the address beside it can't be understood", false
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, endpoint, nil)
	if err != nil {
		return "not tried: the address beside it can't be understood", false
	}
	req.Header.Set("Authorization", "Bearer "+secret)
	own := *client
	own.CheckRedirect = func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse
	}
	res, err := own.Do(req)
	if err != nil {
		why := err
		var ue *url.Error
		if errors.As(err, &ue) {
			why = ue.Err
		}
		return fmt.Sprintf("%s could not be asked: %v", u.Host, why), false
	}
	res.Body.Close()
	switch {
	case res.StatusCode == http.StatusUnauthorized || res.StatusCode == http.StatusForbidden:
		return fmt.Sprintf("%s refuses it (%d)", u.Host, res.StatusCode), true
	case res.StatusCode < 300:
		return fmt.Sprintf("%s takes it (%d)", u.Host, res.StatusCode), false
	}
	return fmt.Sprintf("%s answers %d, which says neither yes nor no", u.Host,
		res.StatusCode), false
}
