# Was eine Kundin liest, auf Deutsch.

language-name = Deutsch

## The page

title = { $host } mit { $platform } verbinden
title-zone = { $zone } mit { $platform } verbinden
intro = Was in den DNS-Einstellungen von { $zone } zu ändern ist, Schritt für Schritt. Diese Seite geht mit, während Sie es tun.
expires = Dieser Link gilt bis { $time }.
link-ended-title = Dieser Link gilt nicht mehr
link-ended = Er ist abgelaufen oder wurde zurückgenommen. Bitten Sie { $platform } um einen neuen.
ask = Sie kommen nicht weiter? Schreiben Sie an { $support }. Dort sieht man diese Seite auch.
print = Drucken
more-domains = { $count ->
    [one] Eine weitere Domain steht hier nicht.
   *[other] { $count } weitere Domains stehen hier nicht.
}

## How it stands

stands-unseen = Wir haben noch nicht nachgesehen
stands-steps = { $count ->
    [one] Eine Änderung ist zu machen
   *[other] { $count } Änderungen sind zu machen
}
stands-stuck = Etwas ist im Weg
stands-spreading = Ihre Einträge stimmen
stands-working = Ihre Einträge stimmen
stands-live = { $host } ist verbunden
stands-paused = Das ruht gerade
stands-left = { $host } gehört nicht mehr zu { $platform }

said-unseen = Das erste Nachsehen dauert einen Augenblick. Die Schritte stehen schon hier.
said-steps = Sobald eine Änderung gemacht ist, sehen wir es von selbst. Sie müssen nirgends drücken.
said-again = Es ging schon einmal, und die Einträge haben sich seither geändert.
said-stuck = Das müssen Sie nicht allein lösen. Das haben wir gefunden:
said-until = Ihr DNS-Anbieter hat es. Die meisten sehen noch das Alte, bis etwa { $time }.
said-some = Ihr DNS-Anbieter hat es. Noch sehen es nicht alle.
said-working = Alle sehen sie. Wir holen jetzt das Zertifikat, damit Besucher sicher ankommen.
said-ours = Sie müssen nichts mehr tun. Was noch fehlt, machen wir.
said-live = Besucher kommen sicher an. Sie können diese Seite schließen: Wir erneuern das Zertifikat und behalten die Einträge im Auge.
said-paused = { $platform } sieht zurzeit nicht nach. Sie müssen nichts tun.
said-left = Dort ist nichts mehr von { $platform } zu sehen.
next-look = Wir sehen von selbst wieder nach, etwa um { $time }.
looking-now = Wir sehen gerade nach.
no-look = Zurzeit sehen wir nicht nach.
looked = Nachgesehen um { $time }.
open-site = { $host } öffnen

## The four posts

gate-ownership = Sie gehört Ihnen
gate-routing = Besucher finden sie
gate-certificate = Zertifikat
gate-serving = Sicher
post-waiting = offen
post-passed = erledigt
post-blocked = etwas ist im Weg
post-lapsed = nicht mehr
post-since = seit { $time }

## Where

where = Öffnen Sie die DNS-Einstellungen von { $zone }
where-operator = Sie liegen bei { $operator }.
where-servers = Sie liegen bei dem, der die Nameserver { $servers } betreibt; oft ist das dort, wo die Domain gekauft wurde.
where-unknown = Sie liegen oft dort, wo die Domain gekauft wurde.
where-link = { $operator } öffnen

## Steps

step-count = Schritt { $number } von { $count }
step-add = Einen { $rtype }-Eintrag anlegen
step-change = Den { $rtype }-Eintrag ändern
step-delete = Den { $rtype }-Eintrag löschen
step-registrar = Das wird dort eingestellt, wo die Domain gekauft wurde, nicht bei ihren Einträgen.
steps-done = Steht schon
steps-keep = Das bleibt, wie es ist
mail-stays = An den MX-Einträgen von { $zone } hängt die E-Mail. Lassen Sie sie, wie sie sind, was immer Sie sonst ändern.
why-ownership = Er zeigt, dass die Domain Ihnen gehört.
why-routing = Er bringt Besucher zur Website.
why-certificate = Damit können wir das Zertifikat holen.
why-delete = Er führt Besucher anderswohin, oder er steht da, wo ein anderer hinmuss.
box-type = Typ
box-host = Name
box-value = Wert
box-was = Wert jetzt
box-ttl = TTL
box-empty = leer lassen
host-at = @ steht für { $zone } selbst.
host-blank = Für { $zone } selbst bleibt dieses Feld leer.
host-short = Nur dieser Teil: { $zone } wird von selbst angehängt.
host-unsure = Steht { $zone } hinter dem Feld, dann nur diesen Teil; sonst { $owner }.
host-full = Der ganze Name.
ttl-lowest = Wird das nicht angeboten, dann das kleinste, das es gibt.
alias-type = Manche nennen ihn ANAME, oder sie lösen einen CNAME selbst auf.

## What is usual at their DNS operator

span-minutes = { $count ->
    [one] einer Minute
   *[other] { $count } Minuten
}
span-hours = { $count ->
    [one] einer Stunde
   *[other] { $count } Stunden
}
span-days = { $count ->
    [one] einem Tag
   *[other] { $count } Tagen
}
usual-served = Eine Änderung bei { $operator } ist meist innerhalb von { $span } auf den Servern dort.
usual-seen = Von den Servern bei { $operator } aus ist eine Änderung meist innerhalb von { $span } fast überall angekommen, und beinahe immer innerhalb von { $long }.
usual-seen-even = Von den Servern bei { $operator } aus ist eine Änderung beinahe immer innerhalb von { $span } fast überall angekommen.
beware = Das geht hier oft schief
beware-host-doubled = Tippen Sie in das Namensfeld nur den kurzen Teil: { $zone } wird von selbst angehängt.
beware-value-doubled = Sehen Sie den Wert nach dem Speichern noch einmal an. Steht { $zone } dahinter, setzen Sie einen Punkt an sein Ende.
beware-token-altered = Kopieren Sie den ganzen Wert, und setzen Sie nichts darum: keine Anführungszeichen, keine Leerzeichen.
beware-token-misplaced = Achten Sie auf das Namensfeld: Jeder Wert gehört zu dem Namen, der hier bei ihm steht.
beware-token-superseded = Nehmen Sie den Wert von dieser Seite. Einer aus einer älteren E-Mail oder Anleitung gilt nicht mehr.
beware-wrong-type = Wählen Sie den Typ des Eintrags, bevor Sie den Wert eintragen.
beware-cname-at-apex = Legen Sie bei { $zone } selbst keinen CNAME an, auch wenn es sich speichern lässt.
beware-cname-beside-others = Löschen Sie, was sonst beim selben Namen steht, bevor Sie einen CNAME anlegen.
beware-cname-chain-broken = Kopieren Sie das Ziel: Mit einem falschen Buchstaben führt es nirgendwohin.
beware-choices-mixed = Folgen Sie den Schritten, wie sie hier stehen, und nehmen Sie nichts aus anderen Anleitungen dazu.
beware-address-surplus = Löschen Sie auch die alten Adressen. Zu einer, die bleibt, geht ein Teil der Besucher.
beware-address-partial = Tragen Sie jede Adresse ein, die hier steht. Jede ist ein eigener Eintrag.
beware-ipv6-stray = Suchen Sie auch nach alten IPv6-Adressen (AAAA), und löschen Sie sie, wie es hier steht.
beware-fronted = Schalten Sie den Proxy für diese Einträge aus, damit Besucher direkt zu { $platform } kommen.
beware-mail-lost = Lassen Sie die E-Mail-Einträge von { $zone } (MX), wie sie sind.

## Buttons

copy = Kopieren
copy-of = { $label } kopieren: { $value }
copied = Kopiert
look-again = Noch einmal nachsehen
looking = Wir sehen nach …
look-soon = Eben nachgesehen. Wieder in { $seconds } s.
offline = Keine Verbindung. Was hier steht, kann alt sein.
reload = Laden Sie diese Seite neu, um zu sehen, was sich geändert hat.

## One click

one-click = Schneller: { $operator } kann es für Sie tun
one-click-said = Sie melden sich dort an, sehen, was sich ändert, und stimmen zu.
one-click-link = Bei { $operator } einrichten
returned-done = Sie sind von Ihrem DNS-Anbieter zurück. Wir sehen nach, ob es dort steht.
returned-refused = Dort wurde nichts geändert. Versuchen Sie es noch einmal, oder folgen Sie den Schritten.
returned-other = Was zurückkam, gehört zu keinem Link. Öffnen Sie Ihren noch einmal.
returned-written = Es steht in Ihrer Zone. Wir sehen nach, ob alle es sehen.
returned-undone = Ihre Zone ist wieder, wie sie vorher war.

## With a key

key-way = Sie betreiben selbst einen Nameserver? Lassen Sie es mit einem Schlüssel eintragen.
key-title = { $platform } in Ihre Zone schreiben lassen
key-said = Legen Sie auf Ihrem Nameserver einen Schlüssel an, der { $zone } ändern darf (TSIG), und geben Sie ihn hier ein. Sie sehen vorher, was geschrieben würde.
key-kept = Der Schlüssel { $key } für { $zone } ist versiegelt aufbewahrt.
key-field = Schlüssel
key-hint = Als hmac-sha256:Name:Geheimnis, oder die Schlüsselangabe Ihres Servers.
key-server = Adresse des Servers
key-server-hint = Leer lassen, wenn Änderungen an den Server gehen, den Ihre Zone als ersten nennt.
key-show = Zeigen, was geschrieben würde
key-plan = Das würde bei { $server } geschrieben:
key-whole = Es wird alles geschrieben oder nichts; und nur, solange Ihre Zone ist wie jetzt. Sie können es hier zurücknehmen.
key-remove = Entfernen
key-add = Hinzufügen
key-write = Schreiben
key-undo = Zurücknehmen
key-forget = Schlüssel vergessen
key-of-others = Jemand anderes hat schon einen Schlüssel für { $zone } gegeben. { $platform } lässt Ihre Einträge damit schreiben: Fragen Sie, wer Ihnen diese Seite geschickt hat.
key-back = Zurück zu Ihren Schritten
key-refused = Ihr Server hat den Schlüssel nicht angenommen. Es wurde nichts geändert.
key-changed = Ihre Zone hat sich inzwischen geändert. Es wurde nichts geschrieben; sehen Sie noch einmal nach.
key-not-written = Es wurde nichts geschrieben. Folgen Sie den Schritten, oder versuchen Sie es noch einmal.

## Being told by mail

tell-me = Per Mail Bescheid geben
tell-field = Ihre Mailadresse
tell-hint = Wir schreiben, wenn etwas zu tun ist, und wenn es steht. In jeder Mail können Sie das beenden.
tell-sent = Sehen Sie in Ihr Postfach: Dort haben wir gefragt, ob Sie es wollen.
tell-refused = An diese Adresse können wir nicht schreiben. Prüfen Sie sie, oder versuchen Sie es später noch einmal.
told-confirmed = Wir geben Bescheid, wenn etwas zu tun ist, und wenn es steht.
told-stop = Keine Mails mehr von { $platform } dazu?
told-stopped = Wir schreiben dazu nicht mehr.

notice-token = { $host }: was für { $platform } einzutragen ist
notice-token-said = In Ihren DNS-Einstellungen ist ein neuer Wert einzutragen. Ihre Seite sagt, welcher und wo.
notice-blocked = { $host }: etwas steht im Weg
notice-blocked-said = In Ihren DNS-Einstellungen ist etwas zu ändern, bevor es weitergeht.
notice-waiting = { $host }: seit einer Weile geht nichts voran
notice-waiting-said = Die Einträge fehlen noch, oder ein Teil von ihnen. Ihre Seite zeigt, was noch zu tun ist.
notice-claimed = { $host }: noch jemand hat ihn nachgewiesen
notice-claimed-said = Auch ein anderer Kunde von { $platform } hat gezeigt, dass ihm dieser Name gehört. Wenn er Ihrer ist, lassen Sie Ihre Einträge, wie sie sind, und melden Sie sich.
notice-live = { $host } ist verbunden
notice-live-said = Alles ist an seinem Platz. Sie müssen nichts mehr tun.
notice-lapsed = { $host }: etwas ist nicht mehr da
notice-lapsed-said = Es ging schon einmal, und ein Eintrag, den es braucht, fehlt jetzt.
notice-expiring = { $host }: das Zertifikat läuft bald ab
notice-expiring-said = Es ließ sich nicht von selbst erneuern. Ihre Seite zeigt, was im Weg steht.
notice-left = { $host }: Einträge von { $platform } sind noch da
notice-left-said = Der Name ist nicht mehr bei { $platform }, und Einträge führen noch dorthin. Entfernen Sie sie, damit sie niemand sonst benutzt.

mail-several = { $count ->
    [one] Eine Änderung bei { $host }
   *[other] { $count } Änderungen bei { $host }
}
mail-many = { $count ->
    [one] Eine Nachricht von { $platform }
   *[other] { $count } Nachrichten von { $platform }
}
mail-more = { $count ->
    [one] Und noch eine.
   *[other] Und { $count } weitere.
}
mail-open = Ihre Seite öffnen
mail-ask = Sie kommen nicht weiter? Schreiben Sie an { $support }.
mail-why = Sie bekommen das, weil { $platform } gebeten wurde, Ihnen Bescheid zu geben.
mail-stop = Diese Mails beenden
mail-question = { $host }: sollen wir Bescheid geben, wenn etwas geschieht?
mail-question-said = Auf einer Seite von { $platform } hat jemand gebeten, dieser Adresse Bescheid zu geben, wenn etwas zu tun ist, und wenn es steht.
mail-confirm = Ja, geben Sie Bescheid
mail-unasked = Wenn Sie das nicht waren, tun Sie nichts: Wir schreiben nicht wieder.

## What we found

found = Was wir gefunden haben
finding-name-reserved = Dieser Name lässt sich hier nicht verwenden.
finding-registration-on-hold = Die Domain ist registriert, aber beim Registrar gesperrt. Fragen Sie dort nach: Meist fehlt eine Zahlung oder eine Bestätigung.
finding-registration-expiring = Die Domain selbst läuft bald ab. Verlängern Sie sie, wo sie registriert ist.
finding-name-unregistered = Diese Domain hat niemand registriert, oder sie ist abgelaufen. Prüfen Sie, ob sie richtig geschrieben und bezahlt ist.
finding-unreachable = Die Nameserver der Domain antworten nicht. Das muss ihr DNS-Anbieter beheben.
finding-survey-cut-short = Das DNS der Domain verlangt mehr, als wir lesen dürfen; wir haben darum nicht alles gesehen. Wer es betreibt, sollte es aufräumen.
finding-dnssec-broken = Die DNSSEC-Signaturen der Domain stimmen nicht, darum erreichen viele sie nicht. Das muss ihr DNS-Anbieter oder Registrar beheben.
finding-edns-refused = Einer der Nameserver weist übliche Fragen ab. Das muss sein Betreiber beheben.
finding-name-unanswered = Die Nameserver geben für einen dieser Namen keine Antwort, obwohl sie für die Domain antworten. Vielleicht führt ein Alias dort ins Leere.
finding-answers-vary = Die Nameserver schicken Besucher an verschiedene Orte, abwechselnd oder je nach Region. Es dürfen nur die Adressen auf dieser Seite dabei sein.
finding-tcp-closed = Einer der Nameserver gibt nur halbe Antworten. Das muss sein Betreiber beheben.
finding-dname-above = Ein DNAME-Eintrag darüber verdeckt, was hier steht.
finding-delegated-away = NS-Einträge geben diesen Namen an andere Nameserver ab. Einträge daneben sieht niemand.
finding-server-lame = Einer der genannten Nameserver kennt die Domain nicht. Es geht, aber für manche langsam.
finding-servers-disagree = Noch haben nicht alle Nameserver die Änderung. Oft dauert das ein paar Minuten.
finding-host-doubled = Die Domain steht doppelt im Namen eines Eintrags: Sie wurde von selbst angehängt. Tippen Sie nur den kurzen Teil.
finding-token-superseded = Der Wert stammt aus einer älteren Anleitung. Nehmen Sie den, der hier steht.
finding-token-misplaced = Der richtige Wert steht beim falschen Namen.
finding-wildcard-answers = Hier antwortet ein Wildcard-Eintrag (*), weil der Eintrag selbst noch fehlt.
finding-token-altered = Der Eintrag ist da, aber sein Wert stimmt nicht ganz. Kopieren Sie den ganzen Wert noch einmal.
finding-wrong-type = Der Wert stimmt, aber der Eintrag hat den falschen Typ.
finding-value-doubled = Die Domain wurde an den Wert angehängt. Setzen Sie einen Punkt an sein Ende, oder wählen Sie ihn als fremden Namen.
finding-cname-at-apex = Bei der Domain selbst kann kein CNAME stehen: Er verdeckt ihre E-Mail und ihre Nameserver.
finding-choices-mixed = Einträge zweier Wege stehen nebeneinander. Behalten Sie einen Weg, und löschen Sie den anderen.
finding-delegation-mismatch = Beim Registrar sind andere Nameserver eingestellt, als die Domain selbst nennt.
finding-cname-beside-others = Wo der CNAME hinsoll, stehen andere Einträge. Ein CNAME muss allein stehen.
finding-fronted = Vor der Domain steht ein Proxy. Schalten Sie ihn für diesen Eintrag aus, wenn Sie können.
finding-cname-chain-broken = Der Eintrag zeigt auf einen Namen, der nirgendwohin führt.
finding-cname-foreign = Der Eintrag zeigt anderswohin, meist dorthin, wo die Website vorher war.
finding-forwarding-elsewhere = Beim DNS-Anbieter ist eine Weiterleitung eingeschaltet, die Besucher wegschickt. Schalten Sie sie aus.
finding-address-foreign = Die Adresse ist eine andere, meist die, wo die Website vorher war.
finding-address-surplus = Neben den richtigen Adressen steht noch eine, und zu ihr geht ein Teil der Besucher.
finding-address-partial = Einige der Adressen fehlen.
finding-ipv6-stray = Eine alte IPv6-Adresse (AAAA) ist geblieben. Viele Besucher nehmen die zuerst.
finding-https-record-stray = Ein HTTPS-Eintrag führt Browser anderswohin.
finding-mail-at-risk = Dieser Name empfängt E-Mail. Ein CNAME würde das beenden; nehmen Sie darum die Adressen.
finding-mail-lost = E-Mail-Einträge, die vorher da waren, sind weg. Setzen Sie sie wieder, sonst kommt keine E-Mail an.
finding-caa-forbids = Ein CAA-Eintrag erlaubt nur andere Zertifikatsaussteller. Er muss unseren auch erlauben.
finding-caa-unreadable = Die Nameserver versagen bei der Frage nach CAA-Einträgen. Das muss ihr Betreiber beheben.
finding-challenge-blocked = Die Einträge stimmen, aber etwas versperrt den Weg zu uns. Wir kümmern uns darum.
finding-issuer-throttled = Das Zertifikat muss etwas warten. Mit Ihrer Domain ist alles in Ordnung.
finding-issuer-refused = Das Zertifikat wurde abgelehnt. Wir kümmern uns darum.
finding-certificate-expiring = Das Zertifikat läuft bald ab, und die Erneuerung ist spät dran. Wir kümmern uns darum.
finding-certificate-foreign = Besucher bekommen ein anderes Zertifikat als unseres. Wir kümmern uns darum.
finding-default-host-listed = Suchmaschinen zeigen die Website vielleicht auch unter ihrem alten Namen.
finding-stalled = Seit einer Weile hat sich nichts geändert. Die Schritte unten fehlen noch.
finding-pair-incomplete = Der Name mit www. oder der ohne ist noch nicht eingerichtet.
finding-claimed-twice = Der Name wurde noch einmal beansprucht, mit Nachweis. Wir kümmern uns darum.
finding-inside-held-name = Hier ist alles in Ordnung.
finding-allowance-reached = Ihr Vertrag mit { $platform } hat keinen Platz für eine weitere Domain.
finding-left-behind = Einträge führen noch hierher, obwohl die Domain nicht mehr dazugehört. Löschen Sie sie.
