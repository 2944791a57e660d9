// Package api is the service's network interface: OpenAPI 3.1 generated from the handlers, problems by RFC 9457, and
// the console's files. It decodes, calls the hub and encodes; it has no rules of its own.
//
// A route's file holds its request, its response and its handler. It imports internal/hub and below. Start with New.
package api
