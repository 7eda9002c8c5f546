# What a customer reads, in English.

language-name = English

## The page

title = Connect { $host } to { $platform }
title-zone = Connect { $zone } to { $platform }
intro = What to change in the DNS settings of { $zone }, one step at a time. This page follows along while you do it.
expires = This link works until { $time }.
link-ended-title = This link has ended
link-ended = It ran out or was taken back. Ask { $platform } for a new one.
ask = Stuck? Write to { $support }. Whoever answers sees this page too.
print = Print
more-domains = { $count ->
    [one] One more domain is not shown here.
   *[other] { $count } more domains are not shown here.
}

## How it stands

stands-unseen = We have not looked yet
stands-steps = { $count ->
    [one] One change to make
   *[other] { $count } changes to make
}
stands-stuck = Something is in the way
stands-spreading = Your records are right
stands-working = Your records are right
stands-live = { $host } is connected
stands-paused = This is paused
stands-left = { $host } has left { $platform }

said-unseen = The first look takes a moment. The steps are here already.
said-steps = Once a change is made, we see it by ourselves. There is nothing to press.
said-again = It worked before, and the records have changed since.
said-stuck = It is not for you to solve alone: this is what we found.
said-until = Your DNS operator has it. Most of the world still sees the old one until about { $time }.
said-some = Your DNS operator has it. Not everybody sees it yet.
said-working = Everybody sees them. We are getting the certificate now, so that visitors arrive securely.
said-ours = You need do nothing more. What is left is ours to do.
said-live = Visitors reach it securely. You can close this page: we renew the certificate and go on watching the records.
said-paused = { $platform } has stopped looking for now. You need do nothing.
said-left = It shows nothing of { $platform } any more.
next-look = We look again by ourselves, at about { $time }.
looking-now = We are looking right now.
no-look = We are not looking at present.
looked = Looked at { $time }.
open-site = Open { $host }

## The four posts

gate-ownership = It is yours
gate-routing = Visitors find it
gate-certificate = Certificate
gate-serving = Secure
post-waiting = waiting
post-passed = done
post-blocked = something is in the way
post-lapsed = no longer
post-since = since { $time }

## Where

where = Open the DNS settings of { $zone }
where-operator = They are at { $operator }.
where-servers = They are with whoever runs its name servers { $servers }; often that is where the domain was bought.
where-unknown = They are often where the domain was bought.
where-link = Open { $operator }

## Steps

step-count = Step { $number } of { $count }
step-add = Add a { $rtype } record
step-change = Change the { $rtype } record
step-delete = Delete the { $rtype } record
step-registrar = This one is set where the domain was bought, not among its records.
steps-done = Already in place
steps-keep = Leave these as they are
mail-stays = Mail for { $zone } depends on its MX records. Leave them as they are, whatever else you change.
why-ownership = It shows that the domain is yours.
why-routing = It brings visitors to the site.
why-certificate = It lets us get the certificate.
why-delete = It leads visitors somewhere else, or stands where another one must go.
box-type = Type
box-host = Name
box-value = Value
box-was = Value now
box-ttl = TTL
box-empty = leave empty
host-at = @ stands for { $zone } itself.
host-blank = For { $zone } itself, this box stays empty.
host-short = Only this part: the editor adds { $zone } by itself.
host-unsure = If the editor shows { $zone } behind the box, type only this part; otherwise type { $owner }.
host-full = The whole name.
ttl-lowest = Where this is not offered, take the lowest that is.
alias-type = Some editors call it ANAME, or flatten a CNAME by themselves.

## What is usual at their DNS operator

span-minutes = { $count ->
    [one] a minute
   *[other] { $count } minutes
}
span-hours = { $count ->
    [one] an hour
   *[other] { $count } hours
}
span-days = { $count ->
    [one] a day
   *[other] { $count } days
}
usual-served = A change made at { $operator } is usually at its servers within { $span }.
usual-seen = Once the servers of { $operator } have a change, most of the world usually sees it within { $span }, and nearly always within { $long }.
usual-seen-even = Once the servers of { $operator } have a change, most of the world nearly always sees it within { $span }.
beware = Often goes wrong here
beware-host-doubled = Type only the short part into the host box: the editor adds { $zone } by itself.
beware-value-doubled = Look at the value once it is saved. If the editor has put { $zone } behind it, add a dot at its end.
beware-token-altered = Copy the whole value, and put nothing around it: no quotation marks, no spaces.
beware-token-misplaced = Mind the host box: each value belongs to the name that stands with it here.
beware-token-superseded = Take the value from this page. One from an older mail or page does not count any more.
beware-wrong-type = Choose the type of the record before you put in the value.
beware-cname-at-apex = Do not put a CNAME at { $zone } itself, even where the editor takes it.
beware-cname-beside-others = Delete what else stands at the same name before you add a CNAME.
beware-cname-chain-broken = Copy the target: with one letter wrong it leads nowhere.
beware-choices-mixed = Follow the steps as they are here, and mix in nothing from other instructions.
beware-address-surplus = Delete the old addresses too. One that is left takes a part of the visitors.
beware-address-partial = Add every address that stands here. Each is a record of its own.
beware-ipv6-stray = Look for old IPv6 addresses (AAAA) too, and delete them as shown here.
beware-fronted = Switch off the proxy for these records, so that visitors come straight to { $platform }.
beware-mail-lost = Leave the mail records of { $zone } (MX) as they are.

## Buttons

copy = Copy
copy-of = Copy { $label }: { $value }
copied = Copied
look-again = Look again
looking = Looking …
look-soon = Looked a moment ago. Again in { $seconds } s.
offline = No connection. What you see may be old.
reload = To see what has changed, load this page again.

## One click

one-click = Quicker: { $operator } can do it for you
one-click-said = You sign in there, see what will change, and agree.
one-click-link = Set it up at { $operator }
returned-done = You are back from your DNS operator. We are looking whether it is there.
returned-refused = Nothing was changed there. Try again, or follow the steps.
returned-other = What came back belongs to no link. Open yours again.
returned-written = It is written to your zone. We are looking whether everybody sees it.
returned-undone = Your zone is as it was before.

## With a key

key-way = You run your own name server? Have it written with a key.
key-title = Let { $platform } write to your zone
key-said = Make a key on your name server that may update { $zone } (TSIG), and give it here. You see what would be written before anything is.
key-kept = The key { $key } of { $zone } is kept, sealed.
key-field = Key
key-hint = As hmac-sha256:name:secret, or the key statement of your server.
key-server = Address of the server
key-server-hint = Leave it empty if updates go to the server that your zone names as its primary.
key-show = Show what would be written
key-plan = This would be written at { $server }:
key-whole = All of it is written, or nothing; and only while your zone is as it is now. You can take it back here.
key-remove = Remove
key-add = Add
key-write = Write it
key-undo = Take it back
key-forget = Forget the key
key-of-others = Somebody else has given a key of { $zone } already. { $platform } has your records written with it: ask whoever sent you this page.
key-back = Back to your steps
key-refused = Your server did not take the key. Nothing was changed.
key-changed = Your zone has changed meanwhile. Nothing was written; look at it once more.
key-not-written = Nothing was written. Follow the steps instead, or try again.

## Being told by mail

tell-me = Tell me by mail
tell-field = Your mail address
tell-hint = We write when something has to be done, and when it is live. You can end it in every mail.
tell-sent = Look into your mailbox: we have asked there whether you want it.
tell-refused = We cannot write to that address. Check it, or try again later.
told-confirmed = We tell you when something has to be done, and when it is live.
told-stop = No more mails from { $platform } about this?
told-stopped = We write no more about this.

notice-token = { $host }: what to add for { $platform }
notice-token-said = There is a new value to be added to your DNS settings. Your page says which, and where.
notice-blocked = { $host }: something is in the way
notice-blocked-said = Something in your DNS settings has to be changed before it can go on.
notice-waiting = { $host }: nothing has moved for a while
notice-waiting-said = The records are not there yet, or only in part. If you have lost the thread, your page shows what is left to do.
notice-claimed = { $host }: somebody else has proved it too
notice-claimed-said = Another customer of { $platform } has shown that this name is theirs. If it is yours, leave your records as they are, and get in touch.
notice-live = { $host } is live
notice-live-said = Everything is in place. You need not do anything more.
notice-lapsed = { $host }: something is gone
notice-lapsed-said = It worked before, and a record that it needs is not there any more.
notice-expiring = { $host }: its certificate runs out soon
notice-expiring-said = It could not be renewed by itself. Your page shows what is in the way.
notice-left = { $host }: records of { $platform } are left
notice-left-said = The name is not at { $platform } any more, and records still lead there. Take them away, so that nobody else can use them.

mail-several = { $count ->
    [one] One change at { $host }
   *[other] { $count } changes at { $host }
}
mail-many = { $count ->
    [one] One message from { $platform }
   *[other] { $count } messages from { $platform }
}
mail-more = { $count ->
    [one] And one more.
   *[other] And { $count } more.
}
mail-open = Open your page
mail-ask = Stuck? Write to { $support }.
mail-why = You get this because { $platform } was asked to tell you.
mail-stop = No more of these mails
mail-question = { $host }: shall we tell you when something happens?
mail-question-said = Somebody has asked on a page of { $platform } that this address be told when something has to be done, and when it is live.
mail-confirm = Yes, tell me
mail-unasked = If it was not you, do nothing: we do not write again.

## What we found

found = What we found
finding-name-reserved = This name cannot be used here.
finding-registration-on-hold = The domain is registered, but its registrar keeps it switched off. Ask them why: mostly a payment or a confirmation is missing.
finding-registration-expiring = The domain itself runs out soon. Renew it where you registered it.
finding-name-unregistered = Nobody has registered this domain, or it has run out. Check its spelling, and whether it is paid for.
finding-unreachable = The domain's name servers give no answer. Its DNS operator has to mend that.
finding-survey-cut-short = The DNS of the domain asks for more than we may read, so we have not seen all of it. Whoever runs it should tidy it up.
finding-dnssec-broken = The domain's DNSSEC signatures are wrong, so many people cannot reach it. Its DNS operator or registrar has to mend that.
finding-edns-refused = One of the name servers turns away questions of a usual kind. Its operator has to mend that.
finding-name-unanswered = The name servers give no answer for one of these names, although they answer for the domain. An alias there may lead nowhere.
finding-answers-vary = The name servers send visitors to different places, by turns or by region. Nothing but the addresses on this page may be among them.
finding-tcp-closed = One of the name servers cuts its answers short. Its operator has to mend that.
finding-dname-above = A DNAME record above this name hides what stands here.
finding-delegated-away = NS records hand this name to other name servers, so records beside them are never seen.
finding-server-lame = One of the listed name servers does not know the domain. It works, but slowly for some.
finding-servers-disagree = The name servers do not all have the change yet. Often that takes a few minutes.
finding-host-doubled = The domain stands twice in the name of a record: the editor added it by itself. Type only the short part.
finding-token-superseded = The value is from an older sheet. Use the one shown here.
finding-token-misplaced = The right value stands at the wrong name.
finding-wildcard-answers = A wildcard record (*) answers here, since the record itself is not there yet.
finding-token-altered = The record is there, but its value is not quite the right one. Copy the whole value again.
finding-wrong-type = The value is right, but the record has the wrong type.
finding-value-doubled = The editor added the domain to the value. Put a dot at its end, or choose the value as an outside name.
finding-cname-at-apex = A CNAME cannot stand at the domain itself: it hides its mail and name servers.
finding-choices-mixed = Records of two ways stand side by side. Keep one way, and delete the other.
finding-delegation-mismatch = The name servers set at the registrar are not those that the domain itself lists.
finding-cname-beside-others = Other records stand where the CNAME goes. A CNAME has to stand alone.
finding-fronted = A proxy stands in front of the domain. Switch it off for this record, if you can.
finding-cname-chain-broken = The record points at a name that leads nowhere.
finding-cname-foreign = The record points at another host, mostly the one that the site was at before.
finding-forwarding-elsewhere = Web forwarding is switched on at the DNS operator, and sends visitors away. Switch it off.
finding-address-foreign = The address is of another host, mostly the one that the site was at before.
finding-address-surplus = Another address stands beside the right ones, and takes a part of the visitors.
finding-address-partial = Some of the addresses are missing.
finding-ipv6-stray = An old IPv6 address (AAAA) is left. Many visitors take that one first.
finding-https-record-stray = An HTTPS record leads browsers somewhere else.
finding-mail-at-risk = This name receives mail. A CNAME would end that, so take the addresses instead.
finding-mail-lost = Mail records that were there before are gone. Put them back, or mail will not arrive.
finding-caa-forbids = A CAA record allows other certificate issuers only. It has to allow ours too.
finding-caa-unreadable = The name servers fail when they are asked for CAA records. Their operator has to mend that.
finding-challenge-blocked = The records are right, but something blocks the way to us. We are looking into it.
finding-issuer-throttled = The certificate has to wait a little. Nothing is wrong with your domain.
finding-issuer-refused = The certificate was refused. We are looking into it.
finding-certificate-expiring = The certificate runs out soon, and its renewal is late. We are looking into it.
finding-certificate-foreign = Visitors get another certificate than ours. We are looking into it.
finding-default-host-listed = Search engines may list the site under its old name as well.
finding-stalled = Nothing has changed for a while. The steps below are what is missing.
finding-pair-incomplete = The name with www. or the one without it is not set up yet.
finding-claimed-twice = The name is asked for once more, with proof. We are looking into it.
finding-inside-held-name = Nothing is wrong here.
finding-allowance-reached = Your plan with { $platform } has no room for another domain.
finding-left-behind = Records still lead here, although the domain has left. Delete them.
