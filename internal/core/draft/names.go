package draft

import (
	"regexp"
	"sync"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// What names say. A name is a hint only, and always said to be one.

var (
	localName   = lazily(`(?i)(^|_)(url|uri|host|hostname|server|endpoint|ip|port|path|dir|directory|folder|smtp|ldap)($|_)|address$`)
	localValue  = lazily(`^([a-z][a-z0-9+.-]*://\S+|/\S+/\S*|[A-Za-z]:\\\S+|\\\\\S+|\d{1,3}(\.\d{1,3}){3}(:\d+)?)$`)
	changedAt   = lazily(`(?i)^(updated|modified|changed|write|last_?(update|updated|change|changed|modified|edit|edited)|date_?(updated|modified|changed)|(update|modify|modification|change)_?(time|date))(_?(at|on|date|time|ts))?$|^tms$|^mtime$`)
	changedBy   = lazily(`(?i)^(updated|modified|changed|last_?(update|updated|changed|modified|edit|edited))_?by(_?(user|id|user_?id))?$|^(update|modify|fk_user_modif|edit|write|updater|modifier|changer)_?(user(_?id)?|uid|id)$|^fk_user_modif$|^last_?updated_?by$`)
	createdAt   = lazily(`(?i)^(created|inserted|creation|date_?creat\w*|datec|add(ed)?|entry|entered|registered)(_?(at|on|date|time|ts))?$|^(create|creation|insert)_?(time|date)$|^ctime$`)
	createdBy   = lazily(`(?i)^(created|inserted|added|entered)_?by(_?(user|id|user_?id))?$|^(create|creation|insert|creator|author|fk_user_creat|fk_user_author)_?(user(_?id)?|uid|id)?$`)
	derivedName = lazily(`(?i)^(lft|rgt|lftval|rgtval|(tree_?|nested_?|set_?)?(left|right)(_?(val|value|bound|key))?|parent_?left|parent_?right|tree_?(depth|path|level)|nested_?depth|(child|children|descendant)s?_?count|num_?child(ren)?)$`)
	cacheName   = lazily(`(?i)^cached?_|_cached?$|^search_?(text|vector|name|key|index|string|blob)$|_(search|tsv|tsvector|soundex|metaphone|normali[sz]ed|searchable)$|^(searchable|tsv|fulltext|search)$`)
	pathName    = lazily(`(?i)^(full|complete|tree|materiali[sz]ed|parent)_?(path|name)$|^path$`)
	countName   = lazily(`(?i)^(last|next|current|highest|running)_?(used_?)?(no|nr|num|number|value|val|id|seq|sequence|serial|counter|count)$|(^|_)(last|next|current|running)_(no|nr|num|number|value|seq|sequence|serial|count|counter)$|^(counter|seq_?no|usage_?count|use_?count|hits?|hit_?count|times_?used|running_?no|last_?value)$|^next_(invoice|order|document|quote|ticket|contract|receipt|rental)(_?(no|number|id))?$`)
	logName     = lazily(`(?i)(^|_)(logs?|audit|audit_?trail|audit_?logs?|history|histories|events?|sessions?|queues?|cache|tmp|temp|migrations?|changelog|databasechangelog|outbox|inbox|heartbeats?|trends?|alerts?|notifications?_sent|messages_sent)$|^(log|audit|history|session|queue|tmp|temp|cache|schema_migrations?)_`)
	codeName    = lazily(`(?i)(^|_)(code|key|number|no|ref|slug|symbol|abbreviation|abbr|short_?name|identifier|login|username|iso\d?|sku|tag|internal_?name|technical_?name)_?$`)
	nameName    = lazily(`(?i)(^|_)(name|title|label|caption|subject)$`)
	longName    = lazily(`(?i)(^|_)(description|text|comment|note|notes|remark|remarks|body|content)$`)
	randomName  = lazily(`(?i)uuid|guid|hash|token|checksum`)
	retiredFlag = lazily(`(?i)^(is_?)?(retired|obsolete|inactive|archived|deleted|removed|disabled|discontinued|hidden|invalid|closed|deprecated)$`)
	inUseFlag   = lazily(`(?i)^(is_?)?(active|enabled|in_?use|valid)$`)
	retiredWhen = lazily(`(?i)^(deleted|removed|retired|archived|disabled|deactivated|discontinued|obsoleted?|ended|closed)_?(at|on|date|time|since|ts)$|^(date|time)_?(deleted|removed|retired|archived)$`)
	statusName  = lazily(`(?i)^(status|state|record_?status|lifecycle(_state)?)$`)
	retiredWord = lazily(`(?i)^(retired|obsolete|inactive|archived|deleted|removed|disabled|discontinued|deprecated|out_?of_?use|withdrawn)$`)
	peopleName  = lazily(`(?i)(^|_)(user|account|people|person|employee|staff|member|contact|customer|client|patient|tenant|login|operator|agent|participant|subscriber|guest|applicant|student|visitor|lessee|renter|driver)$`)
	personField = lazily(`(?i)^(e?_?mail(_?address)?|login(_?name)?|user_?name|first_?name|last_?name|surname|given_?name|family_?name|(date_of_)?birth(day|_?date)?|phone(_?number)?|mobile)$`)
	loginName   = lazily(`(?i)^(login|user_?name|login_?name|userid|account_?name)$`)
	mailName    = lazily(`(?i)mail`)
	sortName    = lazily(`(?i)(^|_)(position|pos|sort|sort_?(no|order|index)|seq|sequence|rank|ord|order|order_?no|line|line_?no|level|priority)$`)
)

// pattern is a regular expression that is made when it is first asked: most runs of the
// program draft nothing.
type pattern struct{ make func() *regexp.Regexp }

func lazily(text string) pattern {
	return pattern{sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })}
}

// MatchString reports whether a text fits.
func (p pattern) MatchString(text string) bool { return p.make().MatchString(text) }

func isTime(c catalog.Column) bool {
	return c.Kind == record.Timestamp || c.Kind == record.LocalTimestamp || c.Kind == record.Date
}

// lookable reports whether a column may be looked at and is worth it.
func lookable(c catalog.Column) bool {
	return !c.Unreadable && c.Kind != record.Bytes && !secretName.MatchString(c.Name)
}
