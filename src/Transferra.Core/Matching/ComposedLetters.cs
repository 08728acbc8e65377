// ComposedLetters.cs: letters with accents taken apart into letter and accent, as Unicode's canonical decomposition has it (UAX 15; the
// character database of Unicode 15, Latin, Greek and Cyrillic letters).
// Why our own: the program runs without the system's Unicode library, and then the platform's normalization leaves such letters alone.
using System.Text;

namespace Transferra.Core.Matching;

/// <summary>Takes letters with accents apart.</summary>
internal static class ComposedLetters
{
    // The accents, in the order of the signs that stand for them in the table: a to z, then 0 to 9.
    private const string Accents = "\u0300\u0301\u0302\u0303\u0308\u030A\u0327\u0304\u0306\u0328\u0307\u030C\u030B\u031B\u030F"
        + "\u0311\u0326\u0325\u0323\u0331\u032D\u0330\u032E\u0324\u0309";

    private const string Signs = "abcdefghijklmnopqrstuvwxyz0123456789";

    // Letter, what it is made of, the sign of its accent.
    private const string Table =
        "ÀAaÁAbÂAcÃAdÄAeÅAfÇCgÈEaÉEbÊEcËEeÌIaÍIbÎIcÏIeÑNdÒOaÓObÔOcÕOdÖOeÙUaÚUbÛUcÜUeÝYbàaaáabâacãadäaeåafçcgèeaéebêecëeeìia"
        + "íibîicïieñndòoaóobôocõodöoeùuaúubûucüueýybÿyeĀAhāahĂAiăaiĄAjąajĆCbćcbĈCcĉccĊCkċckČClčclĎDlďdlĒEhēehĔEiĕeiĖEkėekĘEj"
        + "ęejĚElěelĜGcĝgcĞGiğgiĠGkġgkĢGgģggĤHcĥhcĨIdĩidĪIhīihĬIiĭiiĮIjįijİIkĴJcĵjcĶKgķkgĹLbĺlbĻLgļlgĽLlľllŃNbńnbŅNgņngŇNlňnl"
        + "ŌOhōohŎOiŏoiŐOmőomŔRbŕrbŖRgŗrgŘRlřrlŚSbśsbŜScŝscŞSgşsgŠSlšslŢTgţtgŤTlťtlŨUdũudŪUhūuhŬUiŭuiŮUfůufŰUműumŲUjųujŴWcŵwc"
        + "ŶYcŷycŸYeŹZbźzbŻZkżzkŽZlžzlƠOnơonƯUnưunǍAlǎalǏIlǐilǑOlǒolǓUlǔulǕÜhǖühǗÜbǘübǙÜlǚülǛÜaǜüaǞÄhǟähǠȦhǡȧhǢÆhǣæhǦGlǧglǨKl"
        + "ǩklǪOjǫojǬǪhǭǫhǮƷlǯʒlǰjlǴGbǵgbǸNaǹnaǺÅbǻåbǼÆbǽæbǾØbǿøbȀAoȁaoȂApȃapȄEoȅeoȆEpȇepȈIoȉioȊIpȋipȌOoȍooȎOpȏopȐRoȑroȒRpȓrp"
        + "ȔUoȕuoȖUpȗupȘSqșsqȚTqțtqȞHlȟhlȦAkȧakȨEgȩegȪÖhȫöhȬÕhȭõhȮOkȯokȰȮhȱȯhȲYhȳyhΆΑbΈΕbΉΗbΊΙbΌΟbΎΥbΏΩbΐϊbΪΙeΫΥeάαbέεbήηbίιb"
        + "ΰϋbϊιeϋυeόοbύυbώωbЀЕaЁЕeЃГbЇІeЌКbЍИaЎУiЙИiйиiѐеaёеeѓгbїіeќкbѝиaўуiӁЖiӂжiӐАiӑаiӒАeӓаeӖЕiӗеiӚӘeӛәeӜЖeӝжeӞЗeӟзeӢИhӣиh"
        + "ӤИeӥиeӦОeӧоeӪӨeӫөeӬЭeӭэeӮУhӯуhӰУeӱуeӲУmӳуmӴЧeӵчeӸЫeӹыeḀArḁarḂBkḃbkḄBsḅbsḆBtḇbtḈÇbḉçbḊDkḋdkḌDsḍdsḎDtḏdtḐDgḑdgḒDuḓdu"
        + "ḔĒaḕēaḖĒbḗēbḘEuḙeuḚEvḛevḜȨiḝȩiḞFkḟfkḠGhḡghḢHkḣhkḤHsḥhsḦHeḧheḨHgḩhgḪHwḫhwḬIvḭivḮÏbḯïbḰKbḱkbḲKsḳksḴKtḵktḶLsḷlsḸḶhḹḷh"
        + "ḺLtḻltḼLuḽluḾMbḿmbṀMkṁmkṂMsṃmsṄNkṅnkṆNsṇnsṈNtṉntṊNuṋnuṌÕbṍõbṎÕeṏõeṐŌaṑōaṒŌbṓōbṔPbṕpbṖPkṗpkṘRkṙrkṚRsṛrsṜṚhṝṛhṞRtṟrt"
        + "ṠSkṡskṢSsṣssṤŚkṥśkṦŠkṧškṨṢkṩṣkṪTkṫtkṬTsṭtsṮTtṯttṰTuṱtuṲUxṳuxṴUvṵuvṶUuṷuuṸŨbṹũbṺŪeṻūeṼVdṽvdṾVsṿvsẀWaẁwaẂWbẃwbẄWeẅwe"
        + "ẆWkẇwkẈWsẉwsẊXkẋxkẌXeẍxeẎYkẏykẐZcẑzcẒZsẓzsẔZtẕztẖhtẗteẘwfẙyfẛſkẠAsạasẢAyảayẤÂbấâbẦÂaầâaẨÂyẩâyẪÂdẫâdẬẠcậạcẮĂbắăbẰĂa"
        + "ằăaẲĂyẳăyẴĂdẵădẶẠiặạiẸEsẹesẺEyẻeyẼEdẽedẾÊbếêbỀÊaềêaỂÊyểêyỄÊdễêdỆẸcệẹcỈIyỉiyỊIsịisỌOsọosỎOyỏoyỐÔbốôbỒÔaồôaỔÔyổôyỖÔd"
        + "ỗôdỘỌcộọcỚƠbớơbỜƠaờơaỞƠyởơyỠƠdỡơdỢƠsợơsỤUsụusỦUyủuyỨƯbứưbỪƯaừưaỬƯyửưyỮƯdữưdỰƯsựưsỲYaỳyaỴYsỵysỶYyỷyyỸYdỹyd";

    private static readonly Dictionary<char, (char Letter, char Accent)> Parts = Enumerable.Range(0, Table.Length / 3).ToDictionary(i =>
        Table[3 * i], i => (Table[(3 * i) + 1], Accents[Signs.IndexOf(Table[(3 * i) + 2], StringComparison.Ordinal)]));

    /// <summary>A text with all letters taken apart; the same text for two that differ in composition only.</summary>
    public static string Apart(string text)
    {
        if (Ascii.IsValid(text)) return text;
        var apart = new StringBuilder(text.Length + 8);
        foreach (char letter in text) Add(apart, letter);
        return apart.ToString();
    }

    private static void Add(StringBuilder apart, char letter)
    {
        if (!Parts.TryGetValue(letter, out (char Letter, char Accent) parts))
        {
            apart.Append(letter);
            return;
        }
        Add(apart, parts.Letter);
        apart.Append(parts.Accent);
    }
}
