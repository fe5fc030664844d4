package draft

import (
	"strings"
	"unicode"

	"anagram/internal/core/pattern"
)

// What a draft takes for a secret: by its name, in the languages that schemas are written
// in, or by what its values look like.

var secretName = pattern.Of(`(?i)` + strings.Join([]string{
	`passw`, `pass_?(phrase|code|key)`, `(^|[_-])pass(es)?($|[_-])`, `secret`, `token`, `credential`, `(^|[_-])creds?($|[_-])`,
	`(api|access|private|priv|secret|shared|signing|sign|encryption|encrypt|crypto|hmac|master|session|auth|licen[sc]e|storage|account)_?key`,
	`(^|[_-])(salt|pepper|pin|pwd|pw|otp|totp|hotp|mfa|2fa|seed|nonce|jwt|bearer|cookie|pem|pfx|p12|keystore|psk)($|[_-])`,
	`(otp|totp|mfa|2fa)_?(seed|secret|code)`, `recovery_?code`,
	`private_?(pem|cert|part)`, `conn(ection)?_?str(ing)?`, `(^|[_-])(dsn|jdbc|odbc)(_?url)?($|[_-])`, `oauth`, `sas_?(url|sig)`,
	`signature_?key`,
	// German, Dutch, Nordic
	`kennw(o|ö)rt`, `passwort`, `geheim`, `wachtwoord`, `l(o|ö|oe)senord`, `adgangskode`, `kodeord`, `passord`, `salasana`,
	// Romance
	`mot_?de_?passe`, `(^|[_-])mdp($|[_-])`, `contrase(n|ñ|ni)a?`, `clave_?(secreta|privada|api)`,
	`cl(e|é)_?(secrete|secrète|privee|privée|api)`, `senha`, `chave_?(secreta|privada|api)`, `parola_?d?_?(ordine|chiave)`,
	// Slavic, Hungarian, Turkish, Greek
	`has(l|ł)o($|[_-])`, `heslo`, `(^|[_-])parol(a|e)?($|[_-])`, `jelsz(o|ó)`, `(s|ş)ifre`, `парол`, `секрет`, `κωδικ`,
	// East Asian, Semitic
	`パスワード`, `暗証`, `秘密`, `密码`, `密碼`, `密钥`, `口令`, `비밀`, `סיסמה`, `كلمة_?(ال)?(سر|مرور)`,
}, "|"))

var (
	uuidValue    = pattern.Of(`(?i)^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$`)
	hexValue     = pattern.Of(`(?i)^(0x)?[0-9a-f]{32,}$`)
	tokenSign    = pattern.Of(`^[A-Za-z0-9+/_=.~:-]{20,}$`)
	addressValue = pattern.Of(`(?i)^[a-z][a-z0-9+.-]*://[^/\s]`)
	withPassword = pattern.Of(`^[^/]+://[^/\s:@]*:[^/\s@]+@`)
	parameter    = pattern.Of(`[?&;]([^=&;]+)=`)

	cryptHash = pattern.Of(`^\$[0-9a-z]{1,12}\$|^\{(SSHA|SHA|MD5|CRYPT|PBKDF2)[0-9]*\}|^(pbkdf2|scrypt|argon2|bcrypt)[_$:]`)
)

// LooksSecret reports whether nearly all of some values look like keys, tokens or hashes.
func LooksSecret(values []string) bool {
	alike, filled := 0, 0
	for _, v := range values {
		if v = strings.TrimSpace(v); v == "" {
			continue
		}
		filled++
		if secretValue(v) {
			alike++
		}
	}
	return filled > 0 && alike*5 >= filled*4
}

func secretValue(v string) bool {
	switch {
	case strings.HasPrefix(v, "-----BEGIN ") && !strings.HasPrefix(v, "-----BEGIN CERTIFICATE") &&
		!strings.HasPrefix(v, "-----BEGIN PUBLIC"):
		return true
	case cryptHash.MatchString(v), strings.HasPrefix(v, "eyJ") && strings.Count(v, ".") == 2:
		return true
	case uuidValue.MatchString(v): // an id, far more often
		return false
	case hexValue.MatchString(v):
		return true
	}
	if addressValue.MatchString(v) {
		return secretAddress(v)
	}
	return tokenSign.MatchString(v) && mixed(v)
}

// secretAddress reports whether an address holds a password or a token.
func secretAddress(v string) bool {
	if withPassword.MatchString(v) {
		return true
	}
	for _, m := range parameter.FindAllStringSubmatch(v, -1) {
		if secretName.MatchString(m[1]) || strings.EqualFold(m[1], "sig") || strings.EqualFold(m[1], "key") {
			return true
		}
	}
	return false
}

// mixed reports whether a text changes between capitals, small letters and digits as often
// as chance does, and no word does.
func mixed(v string) bool {
	class := func(r rune) int {
		switch {
		case unicode.IsUpper(r):
			return 1
		case unicode.IsLower(r):
			return 2
		case unicode.IsDigit(r):
			return 3
		}
		return 0
	}
	seen, changes, last := map[int]bool{}, 0, -1
	for _, r := range v {
		c := class(r)
		if c == 0 {
			continue
		}
		if last >= 0 && c != last {
			changes++
		}
		seen[c], last = true, c
	}
	return len(seen) == 3 && changes*3 >= len(v)
}
