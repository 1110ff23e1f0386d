from typing import ClassVar

from django.db import models
from modelcluster.fields import ParentalKey
from wagtail import blocks
from wagtail.fields import RichTextField, StreamField
from wagtail.images.blocks import ImageChooserBlock
from wagtail.models import Orderable, Page


class NotePage(Page):
    intro = models.CharField(max_length=200, blank=True)
    body = RichTextField(blank=True)
    stream = StreamField([("picture", ImageChooserBlock()), ("link", blocks.PageChooserBlock())], blank=True)
    picture = models.ForeignKey("wagtailimages.Image", null=True, blank=True, related_name="+",
                                on_delete=models.SET_NULL)
    search_fields: ClassVar[list[object]] = []


class Related(Orderable):
    page = ParentalKey(NotePage, on_delete=models.CASCADE, related_name="related")
    other = models.ForeignKey(Page, on_delete=models.CASCADE, related_name="+")
