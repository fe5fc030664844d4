// Package sshsig signs texts with SSH keys and verifies such signatures, in the open format of
// OpenSSH (PROTOCOL.sshsig), so that ssh-keygen -Y sign and -Y verify do the same.
//
// The contract: a signature is a text of at most 64 KiB. Verify says whose key made it over
// exactly these bytes in this namespace, and nothing about whom the key belongs to; Allowed
// says that. Old RSA signatures over SHA-1 are none.
package sshsig

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"

	"golang.org/x/crypto/ssh"
)

const (
	magic    = "SSHSIG"
	armor    = "SSH SIGNATURE"
	hashName = "sha512"
	longest  = 64 << 10
)

// envelope is the signature as it is stored, after the magic.
type envelope struct {
	Version   uint32
	PublicKey string
	Namespace string
	Reserved  string
	Hash      string
	Signature string
}

// signed is what the key signs, after the magic.
type signed struct {
	Namespace string
	Reserved  string
	Hash      string
	Digest    string
}

func toSign(namespace, hash string, message []byte) ([]byte, error) {
	var sum []byte
	switch hash {
	case "sha512":
		s := sha512.Sum512(message)
		sum = s[:]
	case "sha256":
		s := sha256.Sum256(message)
		sum = s[:]
	default:
		return nil, fmt.Errorf("the signature uses the hash %.20q, which is not known", hash)
	}
	return append([]byte(magic), ssh.Marshal(signed{namespace, "", hash, string(sum)})...), nil
}

// Sign signs a message in a namespace.
func Sign(signer ssh.Signer, namespace string, message []byte) ([]byte, error) {
	data, err := toSign(namespace, hashName, message)
	if err != nil {
		return nil, err
	}
	var signature *ssh.Signature
	if algorithms, ok := signer.(ssh.AlgorithmSigner); ok && signer.PublicKey().Type() == ssh.KeyAlgoRSA {
		signature, err = algorithms.SignWithAlgorithm(rand.Reader, data, ssh.KeyAlgoRSASHA512)
	} else {
		signature, err = signer.Sign(rand.Reader, data)
	}
	if err != nil {
		return nil, err
	}
	body := append([]byte(magic), ssh.Marshal(envelope{1, string(signer.PublicKey().Marshal()), namespace, "", hashName,
		string(ssh.Marshal(signature))})...)
	return pem.EncodeToMemory(&pem.Block{Type: armor, Bytes: body}), nil
}

// Verify gives the key that signed a message in a namespace.
func Verify(signature, message []byte, namespace string) (ssh.PublicKey, error) {
	if len(signature) > longest {
		return nil, errors.New("the signature is longer than any")
	}
	block := unarmored(signature)
	body, ok := bytes.CutPrefix(block, []byte(magic))
	if !ok {
		return nil, errors.New("it is no SSH signature")
	}
	var e envelope
	if err := ssh.Unmarshal(body, &e); err != nil || e.Version != 1 {
		return nil, errors.New("it is no SSH signature of version 1")
	}
	if e.Namespace != namespace {
		return nil, fmt.Errorf("it was made for %.60q, not for %q", e.Namespace, namespace)
	}
	key, err := ssh.ParsePublicKey([]byte(e.PublicKey))
	if err != nil {
		return nil, errors.New("its key cannot be read")
	}
	var sig ssh.Signature
	if err := ssh.Unmarshal([]byte(e.Signature), &sig); err != nil {
		return nil, errors.New("it cannot be read")
	}
	if sig.Format == ssh.KeyAlgoRSA {
		return nil, errors.New("it uses SHA-1, which proves nothing any more")
	}
	data, err := toSign(namespace, e.Hash, message)
	if err != nil {
		return nil, err
	}
	if err := key.Verify(data, &sig); err != nil {
		return nil, errors.New("it is not one of this text")
	}
	return key, nil
}

// unarmored gives the bytes of a signature between its two lines; nil where it has none.
func unarmored(text []byte) []byte {
	text = bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))
	_, rest, begins := bytes.Cut(text, []byte("-----BEGIN "+armor+"-----\n"))
	inner, _, ends := bytes.Cut(rest, []byte("-----END "+armor+"-----"))
	if !begins || !ends {
		return nil
	}
	out, err := base64.StdEncoding.DecodeString(string(bytes.ReplaceAll(inner, []byte("\n"), nil)))
	if err != nil {
		return nil
	}
	return out
}

// Fingerprint names a key as ssh-keygen does.
func Fingerprint(key ssh.PublicKey) string { return ssh.FingerprintSHA256(key) }
