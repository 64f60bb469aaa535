package reach

import "context"

type secretKey struct{}

// WithSecret lets ways that need a password or the like to open a session have it, as long as the context lasts: it is kept nowhere.
func WithSecret(ctx context.Context, secret []byte) context.Context {
	if secret == nil {
		return ctx
	}
	return context.WithValue(ctx, secretKey{}, secret)
}

// SecretOf returns what WithSecret gave; nil where that is nothing.
func SecretOf(ctx context.Context) []byte {
	secret, _ := ctx.Value(secretKey{}).([]byte)
	return secret
}
