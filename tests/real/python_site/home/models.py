from typing import ClassVar

from django.db import models
from modelcluster.contrib.taggit import ClusterTaggableManager
from modelcluster.fields import ParentalKey
from taggit.models import TaggedItemBase
from wagtail import blocks
from wagtail.admin.panels import FieldPanel, InlinePanel
from wagtail.contrib.forms.models import AbstractEmailForm, AbstractFormField
from wagtail.contrib.settings.models import BaseSiteSetting, register_setting
from wagtail.fields import RichTextField, StreamField
from wagtail.images.blocks import ImageChooserBlock
from wagtail.models import DraftStateMixin, LockableMixin, Orderable, Page, RevisionMixin
from wagtail.snippets.models import register_snippet


class NotePage(Page):
    intro = models.CharField(max_length=200, blank=True)
    body = RichTextField(blank=True)
    stream = StreamField([("picture", ImageChooserBlock()), ("link", blocks.PageChooserBlock())], blank=True)
    picture = models.ForeignKey("wagtailimages.Image", null=True, blank=True, related_name="+",
                                on_delete=models.SET_NULL)
    paper = models.ForeignKey("wagtaildocs.Document", null=True, blank=True, related_name="+",
                              on_delete=models.SET_NULL)
    words = ClusterTaggableManager(through="home.Word", blank=True)
    search_fields: ClassVar[list[object]] = []
    content_panels: ClassVar[list[object]] = [*Page.content_panels, *map(FieldPanel, (
        "intro", "body", "stream", "picture", "paper", "words")), InlinePanel("related")]


class Related(Orderable):
    page = ParentalKey(NotePage, on_delete=models.CASCADE, related_name="related")
    other = models.ForeignKey(Page, on_delete=models.CASCADE, related_name="+")
    panels: ClassVar[list[object]] = [FieldPanel("other")]


class Word(TaggedItemBase):
    content_object = ParentalKey(NotePage, on_delete=models.CASCADE, related_name="tagged")


class AskField(AbstractFormField):
    page = ParentalKey("home.AskPage", on_delete=models.CASCADE, related_name="form_fields")


class AskPage(AbstractEmailForm):
    thanks = RichTextField(blank=True)
    content_panels: ClassVar[list[object]] = [*AbstractEmailForm.content_panels, FieldPanel("thanks"),
                                              InlinePanel("form_fields")]


@register_setting
class Hours(BaseSiteSetting):
    opens = models.IntegerField(default=9)
    telephone = models.CharField(max_length=40, blank=True)
    contact = models.ForeignKey(Page, null=True, blank=True, related_name="+", on_delete=models.SET_NULL)
    panels: ClassVar[list[object]] = [*map(FieldPanel, ("opens", "telephone", "contact"))]


@register_snippet
class Notice(DraftStateMixin, RevisionMixin, LockableMixin, models.Model):
    text = models.CharField(max_length=100)
    page = models.ForeignKey(Page, null=True, blank=True, related_name="+", on_delete=models.SET_NULL)
    picture = models.ForeignKey("wagtailimages.Image", null=True, blank=True, related_name="+",
                                on_delete=models.SET_NULL)
    panels: ClassVar[list[object]] = [*map(FieldPanel, ("text", "page", "picture"))]

    def __str__(self) -> str:
        return self.text


@register_snippet
class Opening(models.Model):
    """Hours of a day; a list that is only a list."""

    day = models.CharField(max_length=20)
    opens = models.IntegerField()

    def __str__(self) -> str:
        return self.day
