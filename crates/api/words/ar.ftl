# ما يقرؤه العميل، بالعربية.

language-name = العربية

## The page

title = ربط { $host } بـ { $platform }
title-zone = ربط { $zone } بـ { $platform }
intro = ما يجب تغييره في إعدادات DNS الخاصة بـ { $zone }، خطوة بخطوة. وهذه الصفحة تتابع معك أثناء العمل.
expires = هذا الرابط صالح حتى { $time }.
link-ended-title = انتهت صلاحية هذا الرابط
link-ended = انتهت مدته أو تم سحبه. اطلب رابطًا جديدًا من { $platform }.
ask = هل تعثرت؟ اكتب إلى { $support }. من يجيبك يرى هذه الصفحة أيضًا.
print = طباعة
more-domains = { $count ->
    [one] هناك نطاق آخر غير معروض هنا.
    [two] هناك نطاقان آخران غير معروضين هنا.
    [few] هناك { $count } نطاقات أخرى غير معروضة هنا.
   *[other] هناك { $count } نطاقًا آخر غير معروض هنا.
}

## How it stands

stands-unseen = لم نفحص بعد
stands-steps = { $count ->
    [one] تغيير واحد مطلوب
    [two] تغييران مطلوبان
    [few] { $count } تغييرات مطلوبة
   *[other] { $count } تغييرًا مطلوبًا
}
stands-stuck = هناك ما يعيق الأمر
stands-spreading = سجلاتك صحيحة
stands-working = سجلاتك صحيحة
stands-live = تم ربط { $host }
stands-paused = هذا متوقف مؤقتًا
stands-left = لم يعد { $host } تابعًا لـ { $platform }

said-unseen = الفحص الأول يستغرق لحظة. والخطوات معروضة هنا من الآن.
said-steps = ما إن يتم التغيير حتى نراه تلقائيًا. لا حاجة إلى الضغط على شيء.
said-again = كان يعمل من قبل، ثم تغيرت السجلات.
said-stuck = لست وحدك في حل هذا. إليك ما وجدناه:
said-until = مزود DNS لديه التغيير. معظم الناس ما زالوا يرون القديم حتى نحو { $time }.
said-some = مزود DNS لديه التغيير. لكن لا يراه الجميع بعد.
said-working = الجميع يراها. نحن الآن نستخرج الشهادة كي يصل الزوار بأمان.
said-ours = لم يعد عليك فعل شيء. ما تبقى علينا نحن.
said-live = يصل الزوار إليه بأمان. يمكنك إغلاق هذه الصفحة: نحن نجدد الشهادة ونواصل مراقبة السجلات.
said-paused = أوقفت { $platform } الفحص حاليًا. لا حاجة إلى فعل شيء.
said-left = لم يعد يعرض شيئًا من { $platform }.
next-look = سنفحص من جديد تلقائيًا نحو { $time }.
looking-now = نحن نفحص الآن.
no-look = لا نفحص في الوقت الحالي.
looked = آخر فحص { $time }.
open-site = افتح { $host }

## The four posts

gate-ownership = النطاق لك
gate-routing = الزوار يجدونه
gate-certificate = الشهادة
gate-serving = اتصال آمن
post-waiting = في الانتظار
post-passed = تم
post-blocked = هناك عائق
post-lapsed = لم يعد قائمًا
post-since = منذ { $time }

## Where

where = افتح إعدادات DNS الخاصة بـ { $zone }
where-operator = وهي لدى { $operator }.
where-servers = وهي لدى من يدير خوادم الأسماء { $servers }، وغالبًا يكون حيث تم شراء النطاق.
where-unknown = وهي غالبًا حيث تم شراء النطاق.
where-link = افتح { $operator }

## Steps

step-count = الخطوة { $number } من { $count }
step-add = أضف سجل { $rtype }
step-change = غيّر سجل { $rtype }
step-delete = احذف سجل { $rtype }
step-registrar = يُضبط هذا حيث تم شراء النطاق، وليس بين سجلاته.
steps-done = موجود بالفعل
steps-keep = اترك هذه كما هي
mail-stays = بريد { $zone } يعتمد على سجلات MX. اتركها كما هي مهما غيّرت غيرها.
why-ownership = يثبت أن النطاق لك.
why-routing = يوصل الزوار إلى الموقع.
why-certificate = يتيح لنا استخراج الشهادة.
why-delete = يقود الزوار إلى مكان آخر، أو يشغل مكان سجل آخر.
box-type = النوع
box-host = الاسم
box-value = القيمة
box-was = القيمة الحالية
box-ttl = TTL
box-empty = اتركه فارغًا
host-at = العلامة @ تعني { $zone } نفسه.
host-blank = من أجل { $zone } نفسه تبقى هذه الخانة فارغة.
host-short = هذا الجزء فقط: المحرر يضيف { $zone } تلقائيًا.
host-unsure = إذا كان { $zone } مكتوبًا بعد الخانة فاكتب هذا الجزء فقط، وإلا فاكتب { $owner }.
host-full = الاسم كاملًا.
ttl-lowest = إن لم تكن هذه القيمة متاحة فاختر أصغر قيمة متاحة.
alias-type = يسميه بعض المحررات ANAME، أو تحوّل CNAME بنفسها.

## What is usual at their DNS operator

span-minutes = { $count ->
    [one] دقيقة واحدة
    [two] دقيقتين
    [few] { $count } دقائق
   *[other] { $count } دقيقة
}
span-hours = { $count ->
    [one] ساعة واحدة
    [two] ساعتين
    [few] { $count } ساعات
   *[other] { $count } ساعة
}
span-days = { $count ->
    [one] يوم واحد
    [two] يومين
    [few] { $count } أيام
   *[other] { $count } يومًا
}
usual-served = التغيير لدى { $operator } يصل عادةً إلى خوادمه خلال { $span }.
usual-seen = متى صار التغيير لدى خوادم { $operator } يراه معظم الناس عادةً خلال { $span }، ودائمًا تقريبًا خلال { $long }.
usual-seen-even = متى صار التغيير لدى خوادم { $operator } يراه معظم الناس دائمًا تقريبًا خلال { $span }.
beware = أخطاء شائعة هنا
beware-host-doubled = اكتب في خانة الاسم الجزء القصير فقط: المحرر يضيف { $zone } تلقائيًا.
beware-value-doubled = انظر إلى القيمة بعد حفظها. إن أضاف المحرر { $zone } بعدها فضع نقطة في آخرها.
beware-token-altered = انسخ القيمة كاملة ولا تضع حولها شيئًا: لا علامات اقتباس ولا مسافات.
beware-token-misplaced = انتبه إلى خانة الاسم: كل قيمة تخص الاسم المكتوب معها هنا.
beware-token-superseded = خذ القيمة من هذه الصفحة. القيمة من بريد أو صفحة أقدم لم تعد صالحة.
beware-wrong-type = اختر نوع السجل قبل أن تكتب القيمة.
beware-cname-at-apex = لا تضع CNAME عند { $zone } نفسه، حتى إن قبله المحرر.
beware-cname-beside-others = احذف ما هو موجود عند الاسم نفسه قبل أن تضيف CNAME.
beware-cname-chain-broken = انسخ الهدف: حرف واحد خطأ يجعله لا يؤدي إلى شيء.
beware-choices-mixed = اتبع الخطوات كما هي هنا، ولا تخلط بها شيئًا من تعليمات أخرى.
beware-address-surplus = احذف العناوين القديمة أيضًا. العنوان الذي يبقى يأخذ جزءًا من الزوار.
beware-address-partial = أضف كل عنوان مكتوب هنا. كل عنوان سجل مستقل.
beware-ipv6-stray = ابحث أيضًا عن عناوين IPv6 القديمة (AAAA) واحذفها كما هو مبين هنا.
beware-fronted = أوقف الوسيط (proxy) لهذه السجلات كي يصل الزوار مباشرة إلى { $platform }.
beware-mail-lost = اترك سجلات البريد (MX) الخاصة بنطاق { $zone } كما هي.

## Buttons

copy = نسخ
copy-of = نسخ { $label }: { $value }
copied = تم النسخ
look-again = افحص من جديد
looking = جارٍ الفحص …
look-soon = فحصنا قبل لحظة. من جديد بعد { $seconds } ث.
offline = لا يوجد اتصال. قد يكون المعروض قديمًا.
reload = أعد تحميل هذه الصفحة لترى ما تغير.

## One click

one-click = أسرع: يمكن لـ { $operator } أن يفعل ذلك عنك
one-click-said = تسجّل الدخول هناك، وترى ما سيتغير، ثم توافق.
one-click-link = الإعداد لدى { $operator }
returned-done = عدت من مزود DNS. نحن نفحص هل صارت السجلات هناك.
returned-refused = لم يتغير شيء هناك. حاول مجددًا أو اتبع الخطوات.
returned-other = ما عاد لا يخص أي رابط. افتح رابطك من جديد.
returned-written = كُتب ذلك في نطاقك. نحن نفحص هل يراه الجميع.
returned-undone = عاد نطاقك كما كان من قبل.

## With a key

key-way = هل تدير خادم أسماء بنفسك؟ دعنا نكتب ذلك بمفتاح.
key-title = اسمح لـ { $platform } بالكتابة في نطاقك
key-said = أنشئ على خادم الأسماء لديك مفتاحًا يحق له تعديل { $zone } (TSIG)، وأدخله هنا. سترى ما سيُكتب قبل أن يُكتب شيء.
key-kept = المفتاح { $key } للنطاق { $zone } محفوظ ومختوم.
key-field = المفتاح
key-hint = بالصيغة hmac-sha256:name:secret، أو كما يكتبه خادمك.
key-server = عنوان الخادم
key-server-hint = اتركه فارغًا إن كانت التعديلات تذهب إلى الخادم الأول الذي يذكره نطاقك.
key-show = أرني ما سيُكتب
key-plan = سيُكتب هذا لدى { $server }:
key-whole = يُكتب كله أو لا يُكتب شيء، وفقط ما دام نطاقك كما هو الآن. يمكنك التراجع عنه هنا.
key-remove = حذف
key-add = إضافة
key-write = اكتبه
key-undo = تراجع عنه
key-forget = انسَ المفتاح
key-of-others = قدّم شخص آخر مفتاحًا للنطاق { $zone } من قبل. تكتب { $platform } سجلاتك به: اسأل من أرسل إليك هذه الصفحة.
key-back = العودة إلى خطواتك
key-refused = لم يقبل خادمك المفتاح. لم يتغير شيء.
key-changed = تغيّر نطاقك في هذه الأثناء. لم يُكتب شيء؛ انظر من جديد.
key-not-written = لم يُكتب شيء. اتبع الخطوات، أو حاول مجددًا.

## Being told by mail

tell-me = أخبروني بالبريد
tell-field = عنوان بريدك
tell-hint = نكتب عندما يكون هناك ما يجب فعله، وعندما يعمل الموقع. يمكنك إنهاء ذلك في كل رسالة.
tell-sent = انظر في بريدك: سألنا هناك هل تريد ذلك.
tell-refused = لا نستطيع الكتابة إلى هذا العنوان. تحقق منه أو حاول لاحقًا.
told-confirmed = سنخبرك عندما يكون هناك ما يجب فعله، وعندما يعمل الموقع.
told-stop = هل تريد إيقاف رسائل { $platform } حول هذا؟
told-stopped = لن نكتب بعد الآن حول هذا.

notice-token = { $host }: ما يجب إضافته من أجل { $platform }
notice-token-said = هناك قيمة جديدة يجب إضافتها إلى إعدادات DNS لديك. صفحتك تقول أيّ قيمة وأين.
notice-blocked = { $host }: هناك ما يعيق
notice-blocked-said = يجب تغيير شيء في إعدادات DNS لديك قبل أن نتابع.
notice-waiting = { $host }: لم يتغير شيء منذ مدة
notice-waiting-said = السجلات ليست هناك بعد، أو بعضها فقط. صفحتك تُظهر ما بقي.
notice-claimed = { $host }: أثبت شخص آخر ملكيته أيضًا
notice-claimed-said = أثبت عميل آخر لدى { $platform } أن هذا الاسم له. إن كان لك فاترك سجلاتك كما هي، وتواصل معنا.
notice-live = { $host } يعمل الآن
notice-live-said = كل شيء في مكانه. لا يلزمك فعل شيء آخر.
notice-lapsed = { $host }: هناك ما اختفى
notice-lapsed-said = كان يعمل من قبل، وهناك سجل يحتاجه لم يعد موجودًا.
notice-expiring = { $host }: شهادته تنتهي قريبًا
notice-expiring-said = لم يمكن تجديدها تلقائيًا. صفحتك تُظهر ما يعيق.
notice-left = { $host }: بقيت سجلات { $platform }
notice-left-said = لم يعد الاسم لدى { $platform }، وما زالت سجلات تقود إليه. احذفها كي لا يستعملها غيرك.

mail-several = { $count ->
    [one] تغيير واحد في { $host }
   *[other] عدد التغييرات في { $host }: { $count }
}
mail-many = { $count ->
    [one] رسالة واحدة من { $platform }
   *[other] عدد الرسائل من { $platform }: { $count }
}
mail-more = { $count ->
    [one] وواحدة أخرى.
   *[other] والمزيد: { $count }.
}
mail-open = افتح صفحتك
mail-ask = هل تعثرت؟ اكتب إلى { $support }.
mail-why = تصلك هذه الرسالة لأنه طُلب من { $platform } إخبارك.
mail-stop = أوقف هذه الرسائل
mail-question = { $host }: هل نخبرك عندما يحدث شيء؟
mail-question-said = طلب شخص على صفحة من { $platform } أن نخبر هذا العنوان عندما يكون هناك ما يجب فعله، وعندما يعمل الموقع.
mail-confirm = نعم، أخبروني
mail-unasked = إن لم تكن أنت فلا تفعل شيئًا: لن نكتب مرة أخرى.

## What we found

found = ما وجدناه
finding-name-reserved = لا يمكن استخدام هذا الاسم هنا.
finding-registration-on-hold = النطاق مسجل، لكن المسجِّل أوقفه. اسأله عن السبب: غالبًا دفعة ناقصة أو تأكيد.
finding-registration-expiring = النطاق نفسه ينتهي قريبًا. جدده لدى من سجلته عنده.
finding-name-unregistered = هذا النطاق غير مسجل أو انتهت مدته. تحقق من كتابته ومن سداد رسومه.
finding-unreachable = خوادم الأسماء لهذا النطاق لا تجيب. على مزود DNS إصلاح ذلك.
finding-survey-cut-short = يتطلب DNS النطاق أكثر مما يجوز لنا قراءته، فلم نرَ كل شيء. على من يديره أن يرتبه.
finding-dnssec-broken = توقيعات DNSSEC للنطاق غير صحيحة، فلا يصل إليه كثيرون. على مزود DNS أو المسجل إصلاح ذلك.
finding-edns-refused = أحد خوادم الأسماء يرفض أسئلة معتادة. على من يديره إصلاح ذلك.
finding-name-unanswered = خوادم الأسماء لا تجيب عن أحد هذه الأسماء مع أنها تجيب عن النطاق. ربما يؤدي اسم مستعار هناك إلى لا شيء.
finding-answers-vary = خوادم الأسماء ترسل الزوار إلى أماكن مختلفة، بالتناوب أو حسب المنطقة. يجب ألا يكون بينها إلا العناوين الموجودة في هذه الصفحة.
finding-tcp-closed = أحد خوادم الأسماء يقطع إجاباته. على من يديره إصلاح ذلك.
finding-dname-above = سجل DNAME فوق هذا الاسم يحجب ما هو هنا.
finding-delegated-away = سجلات NS تسند هذا الاسم إلى خوادم أخرى، فلا يرى أحد السجلات التي بجانبها.
finding-server-lame = أحد خوادم الأسماء المذكورة لا يعرف النطاق. الأمر يعمل، لكن ببطء لدى البعض.
finding-servers-disagree = لم يصل التغيير إلى كل خوادم الأسماء بعد. غالبًا يستغرق ذلك بضع دقائق.
finding-host-doubled = النطاق مكتوب مرتين في اسم أحد السجلات: أضافه المحرر تلقائيًا. اكتب الجزء القصير فقط.
finding-token-superseded = القيمة من تعليمات أقدم. استخدم القيمة المعروضة هنا.
finding-token-misplaced = القيمة الصحيحة موجودة عند الاسم الخطأ.
finding-wildcard-answers = يجيب هنا سجل عام (*) لأن السجل نفسه غير موجود بعد.
finding-token-altered = السجل موجود، لكن قيمته ليست صحيحة تمامًا. انسخ القيمة كاملة من جديد.
finding-wrong-type = القيمة صحيحة، لكن نوع السجل خطأ.
finding-value-doubled = أضاف المحرر النطاق إلى القيمة. ضع نقطة في آخرها، أو اخترها كاسم خارجي.
finding-cname-at-apex = لا يمكن وضع CNAME عند النطاق نفسه: فهو يحجب بريده وخوادم أسمائه.
finding-choices-mixed = سجلات طريقتين موجودة جنبًا إلى جنب. أبقِ طريقة واحدة واحذف الأخرى.
finding-delegation-mismatch = خوادم الأسماء المضبوطة لدى المسجل ليست التي يذكرها النطاق نفسه.
finding-cname-beside-others = هناك سجلات أخرى في مكان CNAME. ويجب أن يكون CNAME وحده.
finding-fronted = يوجد وسيط (proxy) أمام النطاق. أوقفه لهذا السجل إن استطعت.
finding-cname-chain-broken = يشير السجل إلى اسم لا يؤدي إلى شيء.
finding-cname-foreign = يشير السجل إلى مكان آخر، غالبًا حيث كان الموقع من قبل.
finding-forwarding-elsewhere = إعادة التوجيه مفعلة لدى مزود DNS وتبعد الزوار. أوقفها.
finding-address-foreign = العنوان لمكان آخر، غالبًا حيث كان الموقع من قبل.
finding-address-surplus = بجانب العناوين الصحيحة عنوان آخر يأخذ جزءًا من الزوار.
finding-address-partial = بعض العناوين ناقص.
finding-ipv6-stray = بقي عنوان IPv6 قديم (AAAA). كثير من الزوار يستخدمونه أولًا.
finding-https-record-stray = سجل HTTPS يقود المتصفحات إلى مكان آخر.
finding-mail-at-risk = هذا الاسم يستقبل البريد. وجود CNAME ينهي ذلك، فاستخدم العناوين بدلًا منه.
finding-mail-lost = سجلات البريد التي كانت موجودة اختفت. أعدها وإلا فلن يصل البريد.
finding-caa-forbids = سجل CAA يسمح لمصدري شهادات آخرين فقط. يجب أن يسمح لمصدرنا أيضًا.
finding-caa-unreadable = خوادم الأسماء تخفق عند السؤال عن سجلات CAA. على من يديرها إصلاح ذلك.
finding-challenge-blocked = السجلات صحيحة، لكن شيئًا يسد الطريق إلينا. نحن نتابع ذلك.
finding-issuer-throttled = على الشهادة أن تنتظر قليلًا. لا مشكلة في نطاقك.
finding-issuer-refused = رُفضت الشهادة. نحن نتابع ذلك.
finding-certificate-expiring = تنتهي الشهادة قريبًا وتأخر تجديدها. نحن نتابع ذلك.
finding-certificate-foreign = يحصل الزوار على شهادة غير شهادتنا. نحن نتابع ذلك.
finding-default-host-listed = قد تعرض محركات البحث الموقع باسمه القديم أيضًا.
finding-stalled = لم يتغير شيء منذ مدة. الخطوات أدناه هي ما ينقص.
finding-pair-incomplete = الاسم الذي يبدأ بـ www. أو الاسم من دونها لم يُضبط بعد.
finding-claimed-twice = طُلب الاسم مرة أخرى مع إثبات. نحن نتابع ذلك.
finding-inside-held-name = كل شيء على ما يرام هنا.
finding-allowance-reached = اشتراكك لدى { $platform } لا يتسع لنطاق آخر.
finding-left-behind = ما زالت سجلات تقود إلى هنا مع أن النطاق لم يعد تابعًا لنا. احذفها.
