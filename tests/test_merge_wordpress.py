"""A merge on real WordPress: both sides edited through WordPress's own functions, then looked at by WordPress."""

from __future__ import annotations

import json
import shutil
import subprocess
import threading
import time
from collections.abc import Iterator

import httpx
import pytest

from systems import Mariadb, program
from test_wordpress import Sites, everything
from wordpress_forms import Browser
from wordpress_site import HERE, WordPress

LAMPS = """
[[merge.link]]
from = "lamp_stations.page_id"
to = "posts.ID"
[[merge.link]]
from = "lamp_stations.keeper"
to = "users.ID"
[[merge.link]]
from = "lamp_shifts.station"
to = "lamp_stations.id"
[[merge.link]]
from = "kiosk_menu.page_id"
to = "posts.ID"
[[merge.natural]]
table = "lamp_stations"
key = ["code"]
[[merge.reference]]
at = ["lamp_shifts.plan"]
paths = ["station"]
to = "lamp_stations.id"
[[merge.reference]]
at = ["lamp_shifts.plan"]
paths = ["pages.*"]
to = "posts.ID"
[[merge.reference]]
at = ["options.option_value"]
where = { option_name = "lamp_settings" }
paths = ["stations.*"]
to = "lamp_stations.id"
[[merge.reference]]
at = ["options.option_value"]
where = { option_name = "lamp_settings" }
paths = ["page"]
to = "posts.ID"
[merge]
texts = ["kiosk_menu.link"]
"""
UP = ("push", "production", "--parts", "data", "--confirm", "production", "--skip-backup")


@pytest.fixture(scope="module")
def sites(tmp_path_factory: pytest.TempPathFactory, database_server: Mariadb) -> Iterator[Sites]:
    sites = Sites(tmp_path_factory.mktemp("merging"), database_server)
    toml = sites.folder / "vetrin.toml"
    toml.write_text(
        toml.read_text().replace('root = "live"', 'root = "live"\naccess = "read-write"') + LAMPS
    )
    for site in (sites.production, sites.local):
        shutil.copytree(HERE / "plugins", site.root / "wp-content/plugins", dirs_exist_ok=True)
    try:
        edited(sites.production, "before")
        sites.vetrin("pull", "--yes")
        edited(sites.production, "live")
        edited(sites.local, "local")
        yield sites
    finally:
        sites.production.stop()
        sites.local.stop()


def edited(site: WordPress, side: str) -> None:
    done = subprocess.run(
        [program("php"), str(HERE / "merge.php"), str(site.root), site.address, side],
        capture_output=True, text=True, env=site.environment,
    )  # fmt: skip
    assert not done.returncode, done.stdout + done.stderr


def asked(site: WordPress, code: str) -> object:
    """What WordPress answers to a piece of PHP that echoes JSON."""
    head = (
        "$_SERVER['HTTP_HOST'] = '127.0.0.1'; $_SERVER['REQUEST_URI'] = '/';"
        f"require '{site.root}/wp-load.php'; require_once ABSPATH . 'wp-admin/includes/admin.php';"
    )
    done = subprocess.run(
        [program("php"), "-r", head + code], capture_output=True, text=True, env=site.environment
    )
    assert not done.returncode, done.stdout + done.stderr
    return json.loads(done.stdout)


def test_all_of_both_is_there_and_leads_where_it_led(sites: Sites) -> None:
    live, local = sites.production, sites.local
    before = everything(live)
    found = json.loads(sites.vetrin(*UP, "--json", code=5))
    said = {(one["kind"], one["place"]) for one in found["conflicts"]}
    assert ("value", "posts.post_content/¶1") in said, said
    assert [kind for kind, _ in said].count("leads-nowhere") == 1, said
    assert {one["title"] for one in found["conflicts"] if one["kind"] == "value"} == {"Timetable"}
    assert everything(live) == before
    assert not found["not_merged"]
    report = json.loads(sites.vetrin(*UP, "--prefer", "production", "--json"))
    assert report["done"]

    # All of the live site's.
    assert sites.rows(live, "SELECT count(*) FROM wp_posts WHERE post_type = 'booking'") == [(3,)]
    seats = sites.rows(
        live, "SELECT meta_value FROM wp_postmeta WHERE meta_key = 'seats' ORDER BY meta_id"
    )
    assert [row[0] for row in seats] == ["1", "2", "3"]
    titles = {row[0] for row in sites.rows(live, "SELECT post_title FROM wp_posts")}
    assert {"Snow on the line", "News number three"} <= titles and "Volunteers" not in titles
    assert live.unserialise()["bad"] == []
    roles = asked(live, "echo json_encode(get_user_by('login', 'lampman')->roles);")
    assert roles == ["editor"]
    assert asked(
        live, "echo json_encode(wp_authenticate('porter', 'porter-live') instanceof WP_User);"
    )
    assert sites.rows(live, "SELECT count(*) FROM wp_users WHERE user_login = 'porter'") == [(1,)]

    # What WordPress keeps of trees of terms is made anew, of any taxonomy; a plugin's own setting stays.
    kept = sites.rows(
        live, "SELECT option_name FROM wp_options WHERE option_name LIKE '%\\_children'"
    )
    assert kept == [("signal_children",)]
    gauges = "register_taxonomy('gauge', 'post', array('hierarchical' => true));"
    below = "get_term_children(get_term_by('name', 'Narrow', 'gauge')->term_id, 'gauge')"
    assert len(asked(live, f"{gauges} echo json_encode({below});")) == 2  # type: ignore[arg-type]

    # All of the local one's, under other numbers.
    assert {"Our engines", "The tender", "Winter gala"} <= titles
    page = asked(
        live,
        """
        $pages = get_posts(array('post_type' => 'page', 'numberposts' => -1));
        foreach ($pages as $one) { $ids[$one->post_title] = $one->ID; }
        $page = get_post($ids['Our engines']);
        preg_match('~"id":(\\d+)~', $page->post_content, $image);
        preg_match('~"ids":\\[(\\d+),(\\d+)\\]~', $page->post_content, $gallery);
        preg_match('~wp-image-(\\d+)"/></figure>\\n<!-- /wp:image~', $page->post_content, $class);
        preg_match('~\\[gallery ids="(\\d+), (\\d+)"~', $page->post_content, $code);
        preg_match('~data-id="(\\d+)"~', $page->post_content, $data);
        $name = function ($id) { return basename(get_attached_file($id)); };
        $menu = wp_get_nav_menu_items('Winter');
        echo json_encode(array(
            'front' => get_option('page_on_front') == $page->ID,
            'image' => $name($image[1]), 'class' => $name($class[1]), 'data' => $name($data[1]),
            'gallery' => array($name($gallery[1]), $name($gallery[2])),
            'code' => array($name($code[1]), $name($code[2])),
            'thumbnail' => $name(get_post_thumbnail_id($page)),
            'logo' => $name(get_theme_mod('custom_logo')),
            'child' => get_post($ids['The tender'])->post_parent == $page->ID,
            'link' => strpos(get_post($ids['The tender'])->post_content, "?page_id=$page->ID\\"") !== false,
            'menu' => array_map(function ($one) { return array($one->title, $one->object_id, $one->object); }, $menu),
            'parent' => array_values(array_filter(array_map(function ($one) { return (int) $one->menu_item_parent; }, $menu))),
            'first' => $menu[0]->ID,
            'location' => get_nav_menu_locations()['main'] == wp_get_nav_menu_object('Winter')->term_id,
            'engines' => $page->ID, 'tender' => $ids['The tender'],
            'galas' => get_term_by('slug', 'galas', 'category')->count,
            'term' => get_term_by('slug', 'galas', 'category')->term_id,
            'sticky' => array_map('get_the_title', get_option('sticky_posts')),
            'fares' => get_post($ids['Fares'])->post_content,
            'comments' => (int) get_post($ids['Fares'])->comment_count,
            'description' => get_option('blogdescription'),
            'widgets' => array_map(function ($one) { return get_option('widget_text')[(int) substr($one, 5)]['title']; },
                get_option('sidebars_widgets')['side']),
            'home' => get_option('widget_text')[4]['text'],
        ));
        """,
    )
    assert isinstance(page, dict)
    assert page["front"] and page["child"] and page["link"] and page["location"]
    assert (page["image"], page["class"], page["logo"]) == ("engine.png",) * 3
    assert (page["data"], page["thumbnail"]) == ("tender.png",) * 2
    assert page["gallery"] == page["code"] == ["engine.png", "tender.png"]
    # The entry that would lead to the page that is gone was left out.
    assert [item[0] for item in page["menu"]] == ["Our engines", "The tender", "Galas", "Desk"]
    assert [int(item[1]) for item in page["menu"][:3]] == [
        page["engines"],
        page["tender"],
        page["term"],
    ]
    assert page["parent"] == [page["first"]]
    assert page["widgets"] == ["Desk", "Live", "Here"]
    assert page["home"] == f'<a href="{live.address}/">home</a>'
    assert page["galas"] == 2 and page["sticky"] == ["Winter gala"]
    assert (
        page["fares"]
        == "<p>Adults pay ten.</p>\n\n<p>Children pay five.</p>\n\n<p>Dogs ride for one.</p>"
    )
    assert page["comments"] == 1 and page["description"] == "Steam in the hills"
    assert sites.rows(live, "SELECT option_value FROM wp_options WHERE option_name = 'home'") == [
        (live.address,)
    ]
    foreign = f"SELECT count(*) FROM wp_posts WHERE post_content LIKE '%:{local.port}%'"
    assert sites.rows(live, foreign) == [(0,)]
    for title in ("Our engines", "The tender", "Winter gala", "Snow on the line", "Fares"):
        number = sites.rows(
            live,
            f"SELECT ID FROM wp_posts WHERE post_title = '{title}' AND post_type IN ('post', 'page')",
        )[0][0]
        answer = httpx.get(f"{live.address}/?p={number}", follow_redirects=True)
        assert answer.status_code == 200, title

    # A plugin's own tables, which both sides filled, and those of one that only the local side has.
    lamps = asked(
        live,
        """
        global $wpdb;
        $title = function ($id) { return get_the_title((int) $id); };
        $stations = array(); $codes = array();
        foreach ($wpdb->get_results("SELECT * FROM wp_lamp_stations ORDER BY id") as $one) {
            $stations[$one->code] = array($title($one->page_id), get_userdata($one->keeper)->user_login);
            $codes[$one->id] = $one->code;
        }
        $shifts = array();
        foreach ($wpdb->get_results("SELECT * FROM wp_lamp_shifts ORDER BY id") as $one) {
            $plan = unserialize($one->plan);
            $shifts[] = array($codes[$one->station], $codes[$plan['station']], array_map($title, $plan['pages']), $plan['at']);
        }
        $settings = get_option('lamp_settings');
        $dish = $wpdb->get_row("SELECT * FROM wp_kiosk_menu");
        echo json_encode(array('stations' => $stations, 'shifts' => $shifts,
            'settings' => array(array_map(function ($id) use ($codes) { return $codes[$id]; }, $settings['stations']), $title($settings['page'])),
            'kiosk' => array($dish->dish, $title($dish->page_id), $dish->link === home_url("/?page_id=$dish->page_id")),
            'active' => get_option('active_plugins')));
        """,
    )
    assert isinstance(lamps, dict)
    at = f"{live.address}/lamps/"
    assert lamps["stations"] == {
        "top": ["Fares", "stationmaster"], "ferry": ["Snow on the line", "lampman"],
        "both": ["Snow on the line", "lampman"], "summit": ["Our engines", "porter"],
    }  # fmt: skip
    assert sorted(lamps["shifts"]) == sorted([
        ["top", "top", ["Fares"], at], ["ferry", "ferry", ["Snow on the line"], at], ["both", "both", [], at],
        ["summit", "summit", ["Our engines", "The tender", "Fares"], at], ["both", "both", ["The tender"], at],
    ])  # fmt: skip
    assert lamps["settings"] == [["top", "summit"], "Our engines"]
    assert lamps["kiosk"] == ["Soup", "Our engines", True]
    assert set(lamps["active"]) >= {"lamp-room/lamp-room.php", "kiosk/kiosk.php"}

    # Once more there is nothing to do; down it comes without harm, and that is the end of it.
    assert json.loads(sites.vetrin(*UP, "--json"))["tables"] == []
    down = json.loads(sites.vetrin("pull", "--merge", "--yes", "--json"))
    assert {one["name"] for one in down["tables"]} >= {"posts", "comments", "users"}
    assert local.unserialise()["bad"] == []
    for words in (UP, ("pull", "--merge", "--yes")):
        again = json.loads(sites.vetrin(*words, "--json"))
        assert again["tables"] == [] and again["conflicts"] == [], again
    theirs, mine = (
        sorted(
            sites.rows(
                site,
                "SELECT post_title, post_type FROM wp_posts WHERE post_type IN ('post', 'page', 'booking', 'attachment')",
            )
        )
        for site in (live, local)
    )
    assert theirs == mine

    # A booking that the copy lost may be a visitor's: it goes from the live site only where somebody says so.
    lost = """
        $id = get_posts(array('post_type' => 'booking', 'title' => 'Booking 2', 'numberposts' => 1))[0]->ID;
        echo json_encode((bool) wp_delete_post($id, true));
    """
    assert asked(local, "register_post_type('booking', array('public' => false));" + lost)
    found = json.loads(sites.vetrin(*UP, "--json", code=5))
    assert [(one["kind"], one["title"]) for one in found["conflicts"]] == [
        ("removed-from-visitors", "Booking 2")
    ]
    said = sites.vetrin(*UP, code=5)
    assert "local removed it, and visitors of production may have made it" in said
    seats = "SELECT meta_value FROM wp_postmeta WHERE meta_key = 'seats' ORDER BY meta_id"
    assert [row[0] for row in sites.rows(live, seats)] == ["1", "2", "3"]
    sites.vetrin(*UP, "--prefer", "posts=local")
    assert [row[0] for row in sites.rows(live, seats)] == ["1", "3"]


class Crowd:
    """People who write to the live site through its forms, over and over, each in a thread of its own.

    ``done`` is what each was told that it is saved: comments, titles of new posts, the last title and tagline.
    """

    def __init__(self, site: WordPress, post: int) -> None:
        self.site, self.post = site, post
        self.done: dict[str, list[str]] = {
            "comment": [],
            "publish": [],
            "retitle": [],
            "option": [],
        }
        self.failed: list[BaseException] = []
        self._ended = threading.Event()
        # One after the other: WordPress itself loses a log-in of two at the same time.
        editors = [Browser(site.address) for _ in self.done]
        for editor in editors:
            editor.log_in("stationmaster", "stationmaster-word")
        self._threads = [
            threading.Thread(target=self._work, args=each)
            for each in zip(self.done, editors, strict=True)
        ]

    def __enter__(self) -> Crowd:
        for thread in self._threads:
            thread.start()
        return self

    def __exit__(self, *more: object) -> None:
        self._ended.set()
        for thread in self._threads:
            thread.join()

    def _work(self, kind: str, editor: Browser) -> None:
        try:
            number = 0
            while not self._ended.wait(0.05):
                number += 1
                text = f"{kind} {number} of the crowd"
                if kind == "comment":
                    Browser(self.site.address, number).comment(self.post, f"visitor-{number}", text)
                elif kind == "publish":
                    editor.publish(text, f"<p>{text}</p>")
                elif kind == "retitle":
                    editor.retitle(self.post, text)
                else:
                    editor.set_option("blogdescription", text)
                self.done[kind].append(text)
        except BaseException as error:
            self.failed.append(error)


def test_people_at_the_forms_lose_nothing_while_merges_run(sites: Sites) -> None:
    live, local = sites.production, sites.local
    post = int(sites.rows(live, "SELECT ID FROM wp_posts WHERE post_title = 'News number 5'")[0][0])
    with Crowd(live, post) as crowd:
        deadline = time.monotonic() + 60
        while not all(crowd.done.values()) and not crowd.failed and time.monotonic() < deadline:
            time.sleep(0.1)
        for number in range(3):
            code = f"""
                $id = wp_insert_post(array('post_type' => 'page', 'post_title' => 'Gala day {number}',
                    'post_status' => 'publish', 'post_content' => 'Steam.'));
                wp_insert_post(array('post_type' => 'page', 'post_title' => 'Gala map {number}', 'post_parent' => $id,
                    'post_status' => 'publish', 'post_content' => '<a href="' . get_permalink($id) . '">day</a>'));
                echo json_encode($id);
            """
            asked(local, code)
            merged = json.loads(sites.vetrin(*UP, "--json"))
            assert merged["done"], merged
        # Down as well, while they go on.
        sites.vetrin("pull", "--merge", "--yes")
    assert not crowd.failed, crowd.failed
    assert min(map(len, crowd.done.values())) >= 3

    def texts(sql: str) -> list[str]:
        return [row[0] for row in sites.rows(live, sql)]

    comments = texts(
        "SELECT comment_content FROM wp_comments WHERE comment_content LIKE 'comment %crowd'"
    )
    assert sorted(comments) == sorted(crowd.done["comment"])
    posts = texts(
        "SELECT post_title FROM wp_posts WHERE post_title LIKE 'publish %crowd' AND post_status = 'publish'"
    )
    assert sorted(posts) == sorted(crowd.done["publish"])
    assert texts(f"SELECT post_title FROM wp_posts WHERE ID = {post}") == crowd.done["retitle"][-1:]
    assert (
        texts("SELECT option_value FROM wp_options WHERE option_name = 'blogdescription'")
        == crowd.done["option"][-1:]
    )
    pages = texts(
        "SELECT post_title FROM wp_posts WHERE post_title LIKE 'Gala %' ORDER BY post_title"
    )
    assert pages == [f"Gala {what} {number}" for what in ("day", "map") for number in range(3)]
    for number in range(3):
        found = asked(live, f"""
            $page = get_page_by_path('gala-day-{number}');
            $map = get_page_by_path($page->post_name . '/gala-map-{number}');
            echo json_encode(array($page->post_title, strpos($map->post_content, get_permalink($page)) !== false,
                (int) get_post({post})->comment_count));
        """)  # fmt: skip
        assert found[:2] == [f"Gala day {number}", True]  # type: ignore[index]
    counted = "SELECT count(*) FROM wp_comments WHERE comment_approved = '1' AND comment_post_ID = "
    assert found[2] == sites.rows(live, f"{counted}{post}")[0][0]  # type: ignore[index]
    assert live.unserialise()["bad"] == []
    # All of it comes down, and then both sides are the same.
    sites.vetrin("pull", "--merge", "--yes")
    for words in (UP, ("pull", "--merge", "--yes")):
        assert json.loads(sites.vetrin(*words, "--json"))["tables"] == []
