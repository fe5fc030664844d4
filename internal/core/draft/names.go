package draft

import (
	"anagram/internal/core/catalog"
	"anagram/internal/core/pattern"
	"anagram/internal/core/record"
)

// What names say. A name is a hint only, and always said to be one.

var (
	localName   = pattern.Of(`(?i)(^|_)(url|uri|host|hostname|server|endpoint|ip|port|path|dir|directory|folder|smtp|ldap)($|_)|address$`)
	localValue  = pattern.Of(`^([a-z][a-z0-9+.-]*://\S+|/\S+/\S*|[A-Za-z]:\\\S+|\\\\\S+|\d{1,3}(\.\d{1,3}){3}(:\d+)?)$`)
	changedAt   = pattern.Of(`(?i)^(updated|modified|changed|write|last_?(update|updated|change|changed|modified|edit|edited)|date_?(updated|modified|changed)|(update|modify|modification|change)_?(time|date))(_?(at|on|date|time|ts))?$|^tms$|^mtime$`)
	changedBy   = pattern.Of(`(?i)^(updated|modified|changed|last_?(update|updated|changed|modified|edit|edited))_?by(_?(user|id|user_?id))?$|^(update|modify|fk_user_modif|edit|write|updater|modifier|changer)_?(user(_?id)?|uid|id)$|^fk_user_modif$|^last_?updated_?by$`)
	createdAt   = pattern.Of(`(?i)^(created|inserted|creation|date_?creat\w*|datec|add(ed)?|entry|entered|registered)(_?(at|on|date|time|ts))?$|^(create|creation|insert)_?(time|date)$|^ctime$`)
	createdBy   = pattern.Of(`(?i)^(created|inserted|added|entered)_?by(_?(user|id|user_?id))?$|^(create|creation|insert|creator|author|fk_user_creat|fk_user_author)_?(user(_?id)?|uid|id)?$`)
	derivedName = pattern.Of(`(?i)^(lft|rgt|lftval|rgtval|(tree_?|nested_?|set_?)?(left|right)(_?(val|value|bound|key))?|parent_?left|parent_?right|tree_?(depth|path|level)|nested_?depth|(child|children|descendant)s?_?count|num_?child(ren)?)$`)
	cacheName   = pattern.Of(`(?i)^cached?_|_cached?$|^search_?(text|vector|name|key|index|string|blob)$|_(search|tsv|tsvector|soundex|metaphone|normali[sz]ed|searchable)$|^(searchable|tsv|fulltext|search)$`)
	pathName    = pattern.Of(`(?i)^(full|complete|tree|materiali[sz]ed|parent)_?(path|name)$|^path$`)
	countName   = pattern.Of(`(?i)^(last|next|current|highest|running)_?(used_?)?(no|nr|num|number|value|val|id|seq|sequence|serial|counter|count)$|(^|_)(last|next|current|running)_(no|nr|num|number|value|seq|sequence|serial|count|counter)$|^(counter|seq_?no|usage_?count|use_?count|hits?|hit_?count|times_?used|running_?no|last_?value)$|^next_(invoice|order|document|quote|ticket|contract|receipt|rental)(_?(no|number|id))?$`)
	logName     = pattern.Of(`(?i)(^|_)(logs?|audit|audit_?trail|audit_?logs?|history|histories|events?|sessions?|queues?|cache|tmp|temp|migrations?|changelog|databasechangelog|outbox|inbox|heartbeats?|trends?|alerts?|notifications?_sent|messages_sent)$|^(log|audit|history|session|queue|tmp|temp|cache|schema_migrations?)_`)
	codeName    = pattern.Of(`(?i)(^|_)(code|key|number|no|ref|slug|symbol|abbreviation|abbr|short_?name|identifier|login|username|iso\d?|sku|tag|internal_?name|technical_?name)_?$`)
	nameName    = pattern.Of(`(?i)(^|_)(name|title|label|caption|subject)$`)
	longName    = pattern.Of(`(?i)(^|_)(description|text|comment|note|notes|remark|remarks|body|content)$`)
	randomName  = pattern.Of(`(?i)uuid|guid|hash|token|checksum`)
	retiredFlag = pattern.Of(`(?i)^(is_?)?(retired|obsolete|inactive|archived|deleted|removed|disabled|discontinued|hidden|invalid|closed|deprecated)$`)
	inUseFlag   = pattern.Of(`(?i)^(is_?)?(active|enabled|in_?use|valid)$`)
	retiredWhen = pattern.Of(`(?i)^(deleted|removed|retired|archived|disabled|deactivated|discontinued|obsoleted?|ended|closed)_?(at|on|date|time|since|ts)$|^(date|time)_?(deleted|removed|retired|archived)$`)
	statusName  = pattern.Of(`(?i)^(status|state|record_?status|lifecycle(_state)?)$`)
	retiredWord = pattern.Of(`(?i)^(retired|obsolete|inactive|archived|deleted|removed|disabled|discontinued|deprecated|out_?of_?use|withdrawn)$`)
	peopleName  = pattern.Of(`(?i)(^|_)(user|account|people|person|employee|staff|member|contact|customer|client|patient|tenant|login|operator|agent|participant|subscriber|guest|applicant|student|visitor|lessee|renter|driver)$`)
	personField = pattern.Of(`(?i)^(e?_?mail(_?address)?|login(_?name)?|user_?name|first_?name|last_?name|surname|given_?name|family_?name|(date_of_)?birth(day|_?date)?|phone(_?number)?|mobile)$`)
	loginName   = pattern.Of(`(?i)^(login|user_?name|login_?name|userid|account_?name)$`)
	mailName    = pattern.Of(`(?i)mail`)
	sortName    = pattern.Of(`(?i)(^|_)(position|pos|sort|sort_?(no|order|index)|seq|sequence|rank|ord|order|order_?no|line|line_?no|level|priority)$`)
)

func isTime(c catalog.Column) bool {
	return c.Kind == record.Timestamp || c.Kind == record.LocalTimestamp || c.Kind == record.Date
}

// lookable reports whether a column may be looked at and is worth it.
func lookable(c catalog.Column) bool {
	return !c.Unreadable && c.Kind != record.Bytes && !secretName.MatchString(c.Name)
}
