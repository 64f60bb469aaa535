package service

import (
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"
)

// knownHost refuses requests to a name that is not the service's: a page of another site can make its own name lead here, and
// would then be of the same origin. Addresses cannot be made to lead elsewhere, so they need no list.
func (s *Service) knownHost(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		host := c.Request().Host
		if name, _, err := net.SplitHostPort(host); err == nil {
			host = name
		}
		host = strings.ToLower(strings.TrimSuffix(strings.Trim(host, "[]"), "."))
		if host == "localhost" || net.ParseIP(host) != nil || slices.Contains(s.hosts, host) {
			return next(c)
		}
		return &refusal{Status: http.StatusMisdirectedRequest, Title: "Not a name of this service",
			Detail: fmt.Sprintf(
				"The request was for %q.",
				c.Request().Host,
			), Next: "Use its address, or start it with --host and the name by " +
				"which it is to be reached."}
	}
}
