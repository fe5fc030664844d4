package sshsig

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// Source is where a key to sign with may be had.
type Source struct {
	Agent      string // socket of the agent; "" for none
	Key        []byte // of a key file, private or public; nil takes the only key of the agent
	Passphrase func() ([]byte, error)
}

// Signer gives the key; done lets go of the agent.
func (s Source) Signer(ctx context.Context) (signer ssh.Signer, done func(), err error) {
	done = func() {}
	if s.Key != nil {
		if bytes.Contains(s.Key, []byte("PRIVATE KEY")) {
			signer, err = s.private()
			return signer, done, err
		}
	}
	var wanted ssh.PublicKey
	if s.Key != nil {
		if wanted, _, _, _, err = ssh.ParseAuthorizedKey(s.Key); err != nil {
			return nil, done, errors.New("the key file holds neither a private nor a public SSH key")
		}
	}
	if s.Agent == "" {
		return nil, done, errors.New("no SSH agent is at hand (SSH_AUTH_SOCK); name a private key with --key")
	}
	var dialer net.Dialer
	conn, err := dialer.DialContext(ctx, "unix", s.Agent)
	if err != nil {
		return nil, done, fmt.Errorf("the SSH agent cannot be reached: %w", err)
	}
	done = func() { _ = conn.Close() }
	stop := context.AfterFunc(ctx, done)
	defer stop()
	signers, err := agent.NewClient(conn).Signers()
	if err != nil {
		return nil, done, fmt.Errorf("the SSH agent does not list its keys: %w", err)
	}
	for _, one := range signers {
		if wanted != nil && bytes.Equal(one.PublicKey().Marshal(), wanted.Marshal()) {
			return one, done, nil
		}
	}
	switch {
	case wanted != nil:
		return nil, done, fmt.Errorf("the SSH agent does not have the key %s", Fingerprint(wanted))
	case len(signers) == 0:
		return nil, done, errors.New("the SSH agent has no key; name a private key with --key")
	case len(signers) > 1:
		return nil, done, fmt.Errorf("the SSH agent has %d keys; name the file of the one that is meant with --key", len(signers))
	}
	return signers[0], done, nil
}

func (s Source) private() (ssh.Signer, error) {
	signer, err := ssh.ParsePrivateKey(s.Key)
	var missing *ssh.PassphraseMissingError
	if errors.As(err, &missing) {
		words, err := s.Passphrase()
		if err != nil {
			return nil, err
		}
		if signer, err = ssh.ParsePrivateKeyWithPassphrase(s.Key, words); err != nil {
			return nil, errors.New("the passphrase is not that of the key")
		}
		return signer, nil
	}
	if err != nil {
		return nil, errors.New("the private key cannot be read")
	}
	return signer, nil
}
